"""nice-level regain"""

from pathlib import Path
from typing import Any

import click

from nicelevel.core.mp3 import Wish
from nicelevel.core.mp3 import regain as regain_file
from nicelevel.report.as_json import regained_json
from nicelevel.report.words import level

from .bars import progress_bars
from .batch import batch_options, run_batch
from .table import print_table


@click.command()
@batch_options
@click.option("--target", "target_lufs", type=float, help="Bring each to this loudness, in LUFS.")
@click.option("--db", "gain_db", type=float, help="Change each by so many dB; nothing is decoded.")
@click.option("--undo", is_flag=True, help="Take back all that was changed: the bytes that came in.")
@click.option("--max-true-peak", type=float, help="Fewer steps where more would pass this, in dBTP.")
@click.option("--out", "into", required=True, type=click.Path(path_type=Path), help="The folder to write into.")
def regain(
    files: tuple[str, ...],
    jobs: int,
    as_json: bool,
    target_lufs: float | None,
    gain_db: float | None,
    undo: bool,
    max_true_peak: float | None,
    into: Path,
) -> None:
    """Change the level of each MP3 FILE in steps of 1.5 dB without decoding or encoding it: all else stays bit for
    bit, and can be taken back."""
    if sum((target_lufs is not None, gain_db is not None, undo)) != 1:
        raise click.UsageError("--target, --db or --undo: one of the three.")
    wish = Wish(target_lufs, gain_db, undo, max_true_peak)
    with progress_bars() as bar:

        def work(_: int, path: str) -> dict[str, Any]:
            with bar(Path(path).name) as progress:
                return regained_json(path, regain_file(Path(path), into, wish, progress))

        run_batch(files, work, jobs, as_json, _show)


def _show(answers: list[dict[str, Any]]) -> None:
    rows = [
        [
            answer["output"]["path"],
            f"{answer['output']['steps']:+d}",
            level(answer["output"]["gain_db"], signed=True, decimals=2),
            level(answer["output"]["error_db"], signed=True, decimals=2),
            *(
                level((answer["output"][when] or {}).get("integrated_lufs"), decimals=2)
                for when in ("before", "after")
            ),
        ]
        for answer in answers
    ]
    print_table(("file", "steps", "dB", "off by", "LUFS before", "after"), rows)


def _loudness(reading: dict[str, Any] | None) -> str:
    return level(reading["integrated_lufs"], decimals=2) if reading else ""
