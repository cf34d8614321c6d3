"""What the desk does with a contribution: read what it says of itself, wrap and unwrap it, measure it, answer."""

import math
from collections.abc import Callable, Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

from nicelevel.core.contribution import Told, told_by
from nicelevel.core.errors import NiceLevelError
from nicelevel.core.files import take_in
from nicelevel.core.programmes import measure_programme
from nicelevel.core.programmes.measuring import signal_of
from nicelevel.core.speech import dialogue_of
from nicelevel.core.words import figure

from .order import listened, reordered, silent_channels, wrong_order, wrong_speech
from .transport import samples_that_differ, wrap

Progress = Callable[[float], None]

CONFIGURATION = ("5.1", "stereo")
MOST_OFF = {
    "integrated_lufs": 0.1,
    "loudness_range_lu": 0.3,
    "true_peak_dbtp": 0.2,
    "max_momentary_lufs": 0.1,
    "max_short_term_lufs": 0.1,
    "dialogue_lufs": 0.5,
}
"""What a figure may stand off what the desk measures, in LU or dB (common practice)."""

NEEDED = ("integrated_lufs", "true_peak_dbtp", "dialogue_lufs")
WORDS = {
    "integrated_lufs": "loudness",
    "loudness_range_lu": "loudness range",
    "true_peak_dbtp": "true peak",
    "max_momentary_lufs": "loudest 400 ms",
    "max_short_term_lufs": "loudest 3 s",
    "dialogue_lufs": "level of speech",
}

Stated = dict[str, Any]


def check_contribution(path: Path, room: Path, progress: Progress = lambda _: None) -> dict[str, Any]:
    """The answer: accepted where nothing speaks against it, else rejected with every reason.

    room: an empty folder for what is wrapped. figures: of each programme what is stated and what was found.
    """
    try:
        told = told_by(path)
        reasons = [*_wrong_configuration(told), *_wrong_start(told)]
        common = listened(path)
        names = _names(told)
        silent = silent_channels(common)
        reasons += [f"{names[number]} is silent." for number in silent if not names[number].endswith("LFE")]
        remarks = [f"{names[number]} is silent." for number in silent if names[number].endswith("LFE")]
        progress(0.2)
        if _layouts(told) == CONFIGURATION:
            six, two = ([number - 1 for number in each.channels] for each in told.found.programmes)
            called = [names[number] for number in (*six, *two)]
            by_sums = wrong_order(reordered(common, [*six, *two]), called)
            reasons += by_sums or filter(None, [wrong_speech(path, six, called)])
        progress(0.5)
        figures = [_figures(path, told, number) for number in range(len(told.found.programmes))]
        reasons += [reason for each in figures for reason in each.pop("reasons")]
        reasons += _guard_that_sounds(path, told)
        progress(0.8)
        sent = _sent_through(path, room, told)
        reasons += [f"{sent['differing']} samples did not come through."] if sent["differing"] else []
    except NiceLevelError as error:
        return {"state": "rejected", "reasons": [error.message], "remarks": [], "programmes": []}
    return {
        "state": "rejected" if reasons else "accepted",
        "reasons": list(dict.fromkeys(reasons)),
        "remarks": remarks,
        "start": told.start,
        "frame_rate": told.rate.name if told.rate else None,
        "programmes": figures,
        "sent_through": sent,
    }


def _layouts(told: Told) -> tuple[str, ...]:
    return tuple(each.layout.name for each in told.found.programmes)


def _names(told: Told) -> list[str]:
    """How each channel of the file is called, by number from 0."""
    names = {
        channel: f"{each.label}: {position or channel}"
        for each in told.found.programmes
        for channel, position in zip(each.channels, each.layout.positions, strict=True)
    }
    return [names.get(number, f"channel {number}") for number in range(1, told.found.source.channels + 1)]


def _wrong_configuration(told: Told) -> Iterator[str]:
    if _layouts(told) != CONFIGURATION:
        found = " and ".join(_layouts(told))
        yield f"A programme in 5.1 and one in stereo are taken, in this order; it has {found}."


def _wrong_start(told: Told) -> Iterator[str]:
    """The first sample of the programme lies on a frame, and on the one that is stated."""
    rate_hz = told.found.source.sample_rate_hz
    if told.rate is None:
        yield "It does not state its frame rate."
        return
    begins = told.time_reference + told.guard_frames
    pictures = Fraction(begins, rate_hz) * told.rate.exact
    nearest = round(pictures)
    off = begins - told.rate.samples(nearest, rate_hz)
    if off:
        yield f"It starts {abs(off)} samples {'after' if off > 0 else 'before'} a frame of {told.rate.name}."
    elif told.start and told.rate.text(nearest) != told.start:
        yield f"It states a start of {told.start}, and its time reference is {told.rate.text(nearest)}."


def _figures(path: Path, told: Told, number: int) -> Stated:
    """What is stated and what was found of a programme, and what does not agree."""
    programme = told.found.programmes[number]
    reading = measure_programme(path, programme, told.guard_frames)
    with take_in(path) as audio:
        spoken = dialogue_of(signal_of(audio, programme, told.guard_frames))
    found = {name: getattr(reading, name) for name in MOST_OFF if name != "dialogue_lufs"}
    found["dialogue_lufs"] = spoken.lufs
    stated = told.levels[number].figures if number < len(told.levels) else {}
    reasons = [f"{programme.label} does not state its {WORDS[name]}." for name in _left_out(stated, found)]
    for name, value in stated.items():
        measured = found[name]
        if measured is None or not math.isfinite(measured) or abs(value - measured) > MOST_OFF[name] + 0.005:
            has = "nothing" if measured is None else figure(measured, 2)
            reasons.append(
                f"{programme.label} states a {WORDS[name]} of {figure(value, 2)} and has {has}: typed, not measured?"
            )
    shown = {name: value if value is not None and math.isfinite(value) else None for name, value in found.items()}
    return {"label": programme.label, "stated": stated, "found": shown, "reasons": reasons}


def _left_out(stated: dict[str, float], found: dict[str, float | None]) -> Iterator[str]:
    for name in NEEDED:
        measured = found[name]
        if name not in stated and measured is not None and math.isfinite(measured):
            yield name


def _guard_that_sounds(path: Path, told: Told) -> Iterator[str]:
    with take_in(path) as audio:
        done = 0
        for block in audio.blocks(1 << 16):
            if block[: max(0, told.guard_frames - done)].any():
                yield f"The {told.guard_frames / audio.shape.rate_hz:g} s before its start are not silent."
                return
            done += len(block)
            if done >= told.guard_frames:
                return


def _sent_through(path: Path, room: Path, told: Told) -> dict[str, int]:
    wrapped = room / "wrapped"
    pictures = wrap(path, wrapped, told.rate.exact if told.rate else Fraction(25))
    compared, differing = samples_that_differ(path, wrapped)
    wrapped.unlink()
    return {"pictures": pictures, "samples": compared, "differing": differing}
