"""nice-level measure"""

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from nicelevel.core.files import take_in
from nicelevel.core.measure import measure as measure_file
from nicelevel.core.prepare import Workshop
from nicelevel.core.prepare.workshop import as_its_file
from nicelevel.core.programmes import measure_programme, programmes_of
from nicelevel.core.specs.format_words import container_word, encoding_word, rate_word
from nicelevel.core.speech import Dialogue, dialogue_of
from nicelevel.core.steps import Recipe
from nicelevel.core.values import Reading
from nicelevel.report.as_json import dialogue_json, reading_json, steps_json
from nicelevel.report.programmes_json import measured_programme_json
from nicelevel.report.words import length, level

from .batch import batch_options, run_batch
from .recipes import recipe_of, recipe_option
from .table import print_table


@click.command()
@batch_options
@recipe_option
@click.option("--programmes", "by_programme", is_flag=True, help="Measure each programme that a file holds as well.")
@click.option("--dialogue", "by_dialogue", is_flag=True, help="Measure what is spoken by itself as well.")
@click.option("--series", is_flag=True, help="Add momentary and short-term loudness every 0.1 s (JSON only).")
def measure(
    files: tuple[str, ...],
    jobs: int,
    as_json: bool,
    recipe_name: str | None,
    by_programme: bool,
    by_dialogue: bool,
    series: bool,
) -> None:
    """Measure every figure of each FILE."""
    if (by_programme or by_dialogue) and recipe_name:
        option = "--programmes" if by_programme else "--dialogue"
        raise click.UsageError(f"That is told of the file as it is: {option} goes without --recipe.")
    said: dict[str, tuple[str, ...]] = {}
    recipe = recipe_of(recipe_name)

    def work(_: int, path: str) -> dict[str, Any]:
        reading, done = measured_after(path, recipe.steps)
        said[path] = tuple(note.sentence for note in reading.notes)
        spoken = dialogue_json(dialogue_in(path)) if by_dialogue else {}
        return reading_json(reading, path, series) | done | spoken | (_programmes(path) if by_programme else {})

    run_batch(files, work, jobs, as_json, lambda answers: _show(answers, said))


def dialogue_in(path: str) -> Dialogue:
    """What is spoken in a file."""
    with take_in(path) as audio:
        return dialogue_of(audio)


def _programmes(path: str) -> dict[str, Any]:
    """Every programme of a file, measured; and what is said of how they were told."""
    found = programmes_of(Path(path))
    measured = [measured_programme_json(each, measure_programme(Path(path), each)) for each in found.programmes]
    return {"programmes": measured, "programme_notes": list(found.notes)}


def measured_after(path: str, recipe: Recipe) -> tuple[Reading, dict[str, Any]]:
    """The reading of what a recipe makes of a file, and what its steps did."""
    if not recipe:
        return measure_file(path), {}
    with Workshop(Path(path), with_hops=False, recipe=recipe) as workshop:
        return as_its_file(workshop), steps_json(workshop.chain())


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
    for answer in answers:
        if "dialogue_lufs" in answer:
            said[answer["path"]] = (dialogue_words(answer), *said[answer["path"]])
    print_table(columns, [row for answer in answers for row in _rows(answer, said[answer["path"]])], left=2)


def dialogue_words(answer: dict[str, Any]) -> str:
    """What is spoken, in a sentence of the table."""
    if answer["dialogue_lufs"] is None:
        return "Nobody speaks."
    return f"Speech: {level(answer['dialogue_lufs'])} LUFS in {100 * answer['speech_share']:.0f} % of the time."


def _rows(answer: dict[str, Any], notes: tuple[str, ...]) -> Iterator[list[str]]:
    """A file, and under it its programmes where they are asked for."""
    yield _row(answer, notes)
    for number, each in enumerate(answer.get("programmes", [])):
        said = answer["programme_notes"] if number == 0 else ()
        yield _row(answer | each | {"path": f"  {each['label']}"}, said)


def _row(answer: dict[str, Any], notes: Sequence[str]) -> list[str]:
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
