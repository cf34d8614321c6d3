"""nice-level measure"""

from typing import Any

import click

from nicelevel.core.measure import measure as measure_file
from nicelevel.report.as_json import reading_json
from nicelevel.report.words import length, level

from .batch import batch_options, run_batch
from .table import print_table


@click.command()
@batch_options
@click.option("--series", is_flag=True, help="Add momentary and short-term loudness every 0.1 s (JSON only).")
def measure(files: tuple[str, ...], jobs: int, as_json: bool, series: bool) -> None:
    """Measure every figure of each FILE."""
    run_batch(files, lambda _, path: reading_json(measure_file(path), path, series), jobs, as_json, _show)


def _show(answers: list[dict[str, Any]]) -> None:
    columns = (
        "file",
        "format",
        "I LUFS",
        "LRA LU",
        "max M",
        "max S",
        "TP dBTP",
        "peak dBFS",
        "RMS dB",
        "length",
        "notes",
    )
    print_table(columns, [_row(answer) for answer in answers], left=2)


def _row(answer: dict[str, Any]) -> list[str]:
    keys = (
        "integrated_lufs",
        "loudness_range_lu",
        "max_momentary_lufs",
        "max_short_term_lufs",
        "true_peak_dbtp",
        "sample_peak_dbfs",
        "rms_dbfs",
    )
    kind = f"{answer['container']} {answer['encoding']} {answer['sample_rate']} Hz {answer['layout']}"
    figures = [level(answer[key]) for key in keys]
    return [answer["path"], kind, *figures, length(answer["duration_s"]), " ".join(answer["notes"])]
