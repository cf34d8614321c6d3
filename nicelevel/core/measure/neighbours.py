"""What stands out of a source beside the other sources of its job. Thresholds are common practice."""

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ..values import Note, Reading
from ..words import figure

LEAST_READINGS = 4
MOST_SHARE = 0.7
"""What so many agree on is what the job wants."""

PLR_UNDER_LU = 4.0
LIKE_LENGTH_RATIO, OTHER_LENGTH_RATIO = 1.25, 1.5
SPREADS = 4.0


def neighbour_notes(readings: Sequence[Reading]) -> list[tuple[Note, ...]]:
    """For each reading of a job, notes of what sets it apart from the others. None where there are too few."""
    if len(readings) < LEAST_READINGS:
        return [() for _ in readings]
    columns = (
        _unlike(readings, "rate_outlier", lambda each: each.source.sample_rate_hz, _rate_sentence),
        _unlike(readings, "bits_outlier", lambda each: each.source.bits_declared, _bits_sentence),
        _unlike(readings, "layout_outlier", lambda each: each.source.channels, _channels_sentence),
        _lengths(readings),
        _limited(readings),
    )
    return [tuple(note for note in notes if note) for notes in zip(*columns, strict=True)]


Sentence = Callable[[Any, Any], str]


def _unlike(
    readings: Sequence[Reading], code: str, value_of: Callable[[Reading], Any], sentence: Sentence
) -> list[Note | None]:
    values = [value_of(each) for each in readings]
    usual, count = Counter(values).most_common(1)[0]
    if count < MOST_SHARE * len(values):
        return [None for _ in values]
    return [Note(code, sentence(value, usual)) if value != usual else None for value in values]


def _rate_sentence(found: int, usual: int) -> str:
    return f"{found / 1000:g} kHz, where most sources of the job have {usual / 1000:g} kHz."


def _bits_sentence(found: int | None, usual: int | None) -> str:
    names = [f"{bits} bit" if bits else "no fixed word length" for bits in (found, usual)]
    return f"{names[0]}, where most sources of the job have {names[1]}."


def _channels_sentence(found: int, usual: int) -> str:
    return f"{found} channel{'s' if found != 1 else ''}, where most sources of the job have {usual}."


def _lengths(readings: Sequence[Reading]) -> list[Note | None]:
    """A length far from lengths that otherwise agree."""
    lengths_s = [each.source.duration_s for each in readings]
    usual_s = float(np.median(lengths_s))
    ratios = [max(each / usual_s, usual_s / each) for each in lengths_s]
    if sum(ratio <= LIKE_LENGTH_RATIO for ratio in ratios) < MOST_SHARE * len(ratios):
        return [None for _ in readings]
    return [
        _length_note(found_s, usual_s) if ratio > OTHER_LENGTH_RATIO else None
        for found_s, ratio in zip(lengths_s, ratios, strict=True)
    ]


def _length_note(found_s: float, usual_s: float) -> Note:
    word = "longer" if found_s > usual_s else "shorter"
    return Note(
        "length_outlier", f"Far {word} than its neighbours: {figure(found_s)} s, where {figure(usual_s)} s is usual."
    )


def _limited(readings: Sequence[Reading]) -> list[Note | None]:
    """Far less between peak and loudness than the others have: a limiter was probably left on."""
    ratios = [each.plr_lu for each in readings]
    usual = float(np.median([ratio for ratio in ratios if ratio is not None] or [0.0]))
    return [
        _limited_note(ratio, usual) if is_far and ratio is not None and ratio < usual else None
        for ratio, is_far in zip(ratios, outlying(ratios, PLR_UNDER_LU), strict=True)
    ]


def _limited_note(found_lu: float, usual_lu: float) -> Note:
    sentence = (
        f"Only {figure(found_lu)} LU between peak and loudness, where its neighbours have {figure(usual_lu)}: "
        "a limiter was probably left on."
    )
    return Note("limited_outlier", sentence)


def outlying(values: Sequence[float | None], least: float) -> list[bool]:
    """Which values lie far from where most do: by more than `least`, and by several times their usual distance."""
    known = np.array([value for value in values if value is not None and np.isfinite(value)])
    if len(known) < LEAST_READINGS:
        return [False for _ in values]
    middle, far = float(np.median(known)), max(least, SPREADS * _spread(known))
    return [value is not None and bool(np.isfinite(value)) and abs(value - middle) > far for value in values]


def _spread(values: Any) -> float:
    """Median distance from the median: what one outlier cannot move."""
    return float(np.median(np.abs(values - np.median(values))))
