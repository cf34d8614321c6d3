"""nice-level measure"""

from typing import Any

import click

from nicelevel.core.measure import measure as measure_file
from nicelevel.core.specs.format_words import container_word, encoding_word, rate_word
from nicelevel.report.as_json import reading_json
from nicelevel.report.words import length, level

from .batch import batch_options, run_batch
from .table import print_table


@click.command()
@batch_options
@click.option("--series", is_flag=True, help="Add momentary and short-term loudness every 0.1 s (JSON only).")
def measure(files: tuple[str, ...], jobs: int, as_json: bool, series: bool) -> None:
    """Measure every figure of each FILE."""
    said: dict[str, tuple[str, ...]] = {}

    def work(_: int, path: str) -> dict[str, Any]:
        reading = measure_file(path)
        said[path] = tuple(note.sentence for note in reading.notes)
        return reading_json(reading, path, series)

    run_batch(files, work, jobs, as_json, lambda answers: _show(answers, said))


def _show(answers: list[dict[str, Any]], said: dict[str, tuple[str, ...]]) -> None:
    """said: the sentences of each file's notes by its path; programs get their codes."""
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
    print_table(columns, [_row(answer, said[answer["path"]]) for answer in answers], left=2)


def _row(answer: dict[str, Any], notes: tuple[str, ...]) -> list[str]:
    keys = (
        "integrated_lufs",
        "loudness_range_lu",
        "max_momentary_lufs",
        "max_short_term_lufs",
        "true_peak_dbtp",
        "sample_peak_dbfs",
        "rms_dbfs",
    )
    words = container_word(answer["container"]), encoding_word(answer["encoding"])
    kind = ", ".join((*dict.fromkeys(words), rate_word(answer["sample_rate"]), answer["layout"]))
    figures = [level(answer[key]) for key in keys]
    return [answer["path"], kind, *figures, length(answer["duration_s"]), " ".join(notes)]
