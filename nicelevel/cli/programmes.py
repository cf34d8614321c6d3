"""nice-level join, and split"""

from pathlib import Path
from typing import Any

import click

from nicelevel.core.contribution import FRAME_RATES, Wanted, contribute
from nicelevel.core.programmes import PartError, programmes_of_map
from nicelevel.core.programmes import join as join_files
from nicelevel.core.programmes import split as split_file
from nicelevel.report.as_json import error_json
from nicelevel.report.programmes_json import contributed_json, joined_json, split_json

from .bars import progress_bars
from .batch import run_batch
from .table import print_table

Json = dict[str, Any]

as_json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for programs.")


@click.command()
@click.argument("files", nargs=-1, required=True, metavar="FILE…")
@click.option("--out", "to", required=True, type=click.Path(path_type=Path), help="The WAVE file to write.")
@click.option("--label", "labels", multiple=True, help="The name of a programme, one for each FILE in order.")
@click.option("--start", help='As a contribution: time of day of the first frame, "10:00:00:00".')
@click.option("--frame-rate", default="25", help=f"Of a contribution: {', '.join(FRAME_RATES)}.", show_default=True)
@click.option("--guard-s", default=0.0, help="Of a contribution: silence before its start.", show_default=True)
@as_json_option
def join(
    files: tuple[str, ...],
    to: Path,
    labels: tuple[str, ...],
    start: str | None,
    frame_rate: str,
    guard_s: float,
    as_json: bool,
) -> None:
    """Put each FILE beside the others in one WAVE file, sample for sample, and say in it what each is.

    With --start as BW64 that also says when it begins, at which frame rate, and what each programme measures.
    """
    if len(labels) > len(files):
        raise click.UsageError(f"There are {len(labels)} labels for {len(files)} files.")
    if not to.parent.is_dir():
        raise click.UsageError(f"There is no folder {to.parent}.")
    paths = [Path(file) for file in files]
    with progress_bars() as bar:

        def work(_: int, name: str) -> Json:
            try:
                with bar(to.name) as progress:
                    if start is None:
                        return joined_json(join_files(paths, to, labels, progress), paths)
                    called = [*labels, *(path.stem for path in paths[len(labels) :])]
                    wanted = Wanted(frame_rate, start, guard_s)
                    return contributed_json(contribute(paths, to, called, wanted, progress), paths)
            except PartError as error:
                return error_json(files[error.number], error.error)

        run_batch([str(to)], work, 1, as_json, _show)


@click.command()
@click.argument("file")
@click.option("--out", "into", required=True, type=click.Path(path_type=Path), help="The folder to write into.")
@click.option("--map", "map_text", help='What its channels are: "1-6 Full mix,7-8 Stereo".')
@click.option("--each", "is_each", is_flag=True, help="A file for each channel.")
@as_json_option
def split(file: str, into: Path, map_text: str | None, is_each: bool, as_json: bool) -> None:
    """Write each programme of a FILE as a WAVE file of its own, sample for sample."""
    asked = programmes_of_map(map_text) if map_text is not None else ()
    with progress_bars() as bar:

        def work(_: int, path: str) -> Json:
            with bar(Path(path).name) as progress:
                return split_json(split_file(Path(path), into, asked, is_each, progress))

        run_batch([file], work, 1, as_json, _show)


def _show(answers: list[Json]) -> None:
    rows = [
        [each["label"], each["layout"], " ".join(map(str, each["channels"])), each.get("path", each.get("from"))]
        for answer in answers
        for each in answer["programmes"]
    ]
    print_table(("programme", "layout", "channels", "file"), rows, left=4)
    for answer in answers:
        for note in answer["notes"]:
            click.echo(note)
