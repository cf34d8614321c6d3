"""Recipes drawn: for each step its sentence with what can be changed in it, and a strip on the time of the source."""

import math
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Literal, get_args, get_origin

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.prepare.sketch import Sketched
from nicelevel.core.signals import Timeline
from nicelevel.core.stages import Edit, Patch, Ride
from nicelevel.core.steps import STEPS, Step
from nicelevel.core.steps.high_pass import HighPass
from nicelevel.core.steps.tick import Place
from nicelevel.core.words import MINUS, amount, change

from .curve import clock, reduced
from .prepare_handles import Handles, handles_of, outline

STRIP_HEIGHT, WAVE_HEIGHT = 54, 70
LOWEST_DB = -40.0
SAMPLES_PER_PIXEL = 4
LEAST_SPAN_DB = 3.0
LOWEST_TAKEN_DB = -75.0
"""What is kept of a low band in 16 bits says nothing under this."""

SENTENCES: dict[str, tuple[str, str]] = {
    "gain": ("Move the level by {db} dB.", ""),
    "cut": ("Keep what lies from {from_s} s to {to_s} s.", "nothing in the second is the end"),
    "trim": ("Trim {where} of what is under {below_db} dB.", "{keep_s} s of it stay"),
    "silence": ("Put {head_s} s of silence in front.", "and {tail_s} s behind"),
    "length": ("Make it exactly {seconds} s long.", "the last {fade_s} s fade out where it is cut"),
    "pauses": ("Shorten pauses of {longer_than_s} s and more to {keep_s} s, {where}.", "quieter than {below_db} dB"),
    "fade": ("Fade in over {in_s} s, out over {out_s} s.", "shape: {shape}"),
    "tick": ("Mend a tick in the first {within_s} s.", "only where there is one; {fade_s} s fade in after it"),
    "dc": ("Take away a constant offset.", ""),
    "high_pass": ("Let through above {hz} Hz.", "order {order}, 6 dB an octave each"),
    "gate": (
        "Turn down by {reduce_db} dB what is under {below_db} dB.",
        "opens {attack_ms} ms before, holds {hold_ms} ms, closes in {release_ms} ms",
    ),
    "compress": (
        "Squeeze what is above {above_db} dB, {ratio} to 1.",
        "knee {knee_db} dB, {attack_ms} ms, back in {release_ms} ms, then {makeup_db} dB",
    ),
    "even": ("Even out speech, {amount}.", "at most 6 dB in a second while somebody speaks"),
    "keep": ("Keep only channels {channels}.", ""),
    "flip": ("Turn over channels {channels}.", ""),
    "delay": ("Make channels {channels} later by {samples} samples.", "auto lines them up with the others"),
    "mix": ("Mix its channels into {layout} by {rows}.", "a row for each channel that results"),
    "fold": ("Fold down to {layout}.", "ITU-R BS.775"),
}
"""What is asked for, with the keys that can be changed in braces; and what is said under it."""

STARTS: dict[str, dict[str, Any]] = {
    "gain": {"db": -3.0},
    "length": {"seconds": 30.0},
    "high_pass": {"hz": 80.0},
    "gate": {"below_db": -50.0, "reduce_db": 12.0},
    "compress": {"above_db": -24.0, "ratio": 2.0},
    "silence": {"head_s": 0.5},
    "fade": {"in_s": 0.05, "out_s": 0.05},
    "delay": {"channels": [2], "samples": "auto"},
    "fold": {"layout": "mono"},
}
"""What a step begins with where its keys have no default of their own, or one that does nothing."""

NAMES = {
    "trim": "trim", "cut": "cut", "silence": "silence", "length": "exact length", "pauses": "pauses", "fade": "fade",
    "tick": "tick", "dc": "offset", "high_pass": "high-pass", "gate": "gate", "compress": "squeeze",
    "even": "even out speech", "gain": "gain", "keep": "channels", "flip": "turn over", "delay": "line up",
    "mix": "matrix", "fold": "fold down",
}  # fmt: skip
"""What steps are called in the list of those that can be added."""


@dataclass(frozen=True)
class Field:
    """What can be changed in a sentence. choices: where it is one of some words; step: by how much keys move it."""

    key: str
    value: str
    choices: tuple[str, ...] = ()
    is_number: bool = False
    step: float = 1.0


Part = str | Field


@dataclass(frozen=True)
class Mark:
    """On the strip, in pixels from its left. kind: what was taken out, put in, or mended there."""

    kind: Literal["out", "in", "mended"]
    left: float
    width: float
    words: str


@dataclass(frozen=True)
class Strip:
    """path: a gain over time, filled from `zero`; taken: the level of what a filter took away, from the bottom.

    words: where nothing can be drawn over time.
    """

    path: str = ""
    line: str = ""
    zero: float = 0.0
    top_words: str = ""
    bottom_words: str = ""
    taken: str = ""
    marks: tuple[Mark, ...] = ()
    words: str = ""


@dataclass(frozen=True)
class StepRow:
    """done: how many steps are done once this one is."""

    number: int
    do: str
    stored: dict[str, Any]
    sentence: tuple[Part, ...]
    under: tuple[Part, ...]
    strip: Strip
    handles: Handles
    figure: str
    under_figure: str
    said: str
    problem: str
    harms: tuple[str, ...]
    is_off: bool
    is_exact: bool
    done: int


def sentence_of(step: Step, which: int = 0) -> tuple[Part, ...]:
    """The sentence of a step, or what is said under it, in parts: words, and what can be changed."""
    template = SENTENCES[step.do][which]
    return tuple(_parts(step, template))


def _parts(step: Step, template: str) -> Iterator[Part]:
    for words in re.split(r"(\{\w+\})", template):
        yield _field(step, words[1:-1]) if words.startswith("{") else words


def _field(step: Step, key: str) -> Field:
    value, annotation = getattr(step, key), type(step).model_fields[key].annotation
    if get_origin(annotation) is Literal:
        return Field(key, str(value), tuple(map(str, get_args(annotation))))
    if isinstance(value, bool | int | float):
        return Field(key, f"{value:g}".replace("-", MINUS), is_number=True, step=_step_of(key))
    return Field(key, _typed(value))


def _typed(value: Any) -> str:
    """A value as it is typed: lists with commas, rows with semicolons."""
    if value is None:
        return ""
    if isinstance(value, tuple):
        rows = any(isinstance(each, tuple) for each in value)
        return ("; " if rows else ", ").join(_typed(each) for each in value)
    return f"{value:g}" if isinstance(value, float) else str(value)


def _step_of(key: str) -> float:
    """By how much a key moves a figure, by its unit."""
    unit = key.rpartition("_")[2]
    return {"s": 0.05, "db": 1.0, "ms": 5.0, "hz": 10.0, "seconds": 0.5, "ratio": 0.5}.get(unit, 1.0)


def draw_waveform(peaks: NDArray[np.floating[Any]], timeline: Timeline | None, duration_s: float, width: int) -> str:
    """A waveform on the time of the source; timeline: where it comes to lie, None for the source itself."""
    half = WAVE_HEIGHT / 2
    if timeline is None:
        heights = reduced(np.asarray(peaks, np.float32), width // 2)
        scale = duration_s * 100.0 / max(1, len(peaks))
        return "".join(
            f"M{2 * n / scale:.0f} {half - h * (half - 2):.1f}v{max(1.0, 2 * h * (half - 2)):.1f}"
            for n, h in enumerate(heights.tolist())
        )
    path = []
    for span in timeline.spans:
        length_s = float(span.length_s) if span.length_s is not None else duration_s - float(span.source_s)
        first, last = (round(100 * s) for s in (float(span.output_s), float(span.output_s) + length_s))
        left, pixels = width * float(span.source_s) / duration_s, max(1, round(width * length_s / duration_s))
        part = np.asarray(peaks[first:last], np.float32)
        if len(part):
            heights = reduced(part, min(len(part), max(1, pixels // 2)))
            for n, h in enumerate(heights.tolist()):
                x = left + n * pixels / len(heights)
                path.append(f"M{x:.1f} {half - h * (half - 2):.1f}v{max(1.0, 2 * h * (half - 2)):.1f}")
    return "".join(path)


def draw_strip(made: Sketched, duration_s: float, width: int) -> Strip:
    """What one step did, on the time of the source."""
    if made.done is None:
        return Strip()
    scale = _Scale(made.before, duration_s, width)
    marks: list[Mark] = []
    for stage in made.done.stages:
        if isinstance(stage, Edit):
            marks += _edits(stage, scale)
        elif isinstance(stage, Ride) and not isinstance(made.done.found, Place):
            return _gains(stage, scale, tuple(marks))
    if isinstance(made.done.found, Place) and made.done.stages:
        at = scale.x((made.done.found.peak or 0) / made.done.before.rate_hz)
        marks.append(Mark("mended", at, 0.0, "mended, what follows fades in"))
    words = "" if marks else made.done.words if any(isinstance(each, Patch) for each in made.done.stages) else ""
    return Strip(marks=tuple(marks), words=words)


def _handles(made: Sketched, duration_s: float, width: int) -> Handles:
    return handles_of(made, _Scale(made.before, duration_s, width).x, duration_s, width, STRIP_HEIGHT)


@dataclass(frozen=True)
class _Scale:
    before: Timeline
    duration_s: float
    width: int

    def x(self, input_s: float) -> float:
        """Where a time of what comes to a step lies, in pixels: what was put in, where it was put in."""
        source_s = self.before.to_source(min(input_s, 1e9))
        if source_s is None:
            ends_s = [span.source_s + (span.length_s or 0) for span in self.before.spans if span.output_s < input_s]
            source_s = max(ends_s, default=self.before.spans[0].source_s if self.before.spans else Fraction(0))
        return round(self.width * min(1.0, max(0.0, float(source_s) / self.duration_s)), 1)


def _edits(edit: Edit, scale: _Scale) -> Iterator[Mark]:
    """What lies between stretches: taken out of what comes in, or put into what goes out."""
    rate_hz, came, went = edit.before.rate_hz, 0, 0
    for each in (*edit.stretches, None):
        first, at = (each.first, each.at) if each else (edit.before.frames, edit.frames)
        join = each.frames if each and each.slope == "rising" else 0
        if first - came > join:
            left, right = scale.x(came / rate_hz), scale.x(first / rate_hz)
            yield Mark("out", left, max(1.5, right - left), f"{change(-(first - came) / rate_hz)} s")
        if at - went > 0:
            yield Mark("in", scale.x(came / rate_hz), 0.0, f"{change((at - went) / rate_hz)} s")
        if each:
            came, went = max(came, each.end), max(went, each.at + each.frames)


def _gains(ride: Ride, scale: _Scale, marks: tuple[Mark, ...]) -> Strip:
    """A gain over time as a filled curve, at its lowest and highest for each pixel."""
    count = scale.width * SAMPLES_PER_PIXEL // 2
    frames = np.linspace(0, max(0, ride.before.frames - 1), count).astype(np.int64)
    gains_db = 20.0 * np.log10(np.maximum(ride.curve.at(frames), 10.0 ** (LOWEST_DB / 20.0)))
    lowest, highest = min(0.0, float(gains_db.min())), max(0.0, float(gains_db.max()))
    span = max(LEAST_SPAN_DB, highest - lowest)
    inner = STRIP_HEIGHT - 20
    zero = 10 + inner * highest / span
    xs = _pixels(frames / ride.before.rate_hz, scale)
    points = [f"{x:.1f} {y:.1f}" for x, y in zip(xs, zero - gains_db * inner / span, strict=True)]
    line = "M" + "L".join(points)
    path = f"M{xs[0]:.1f} {zero:.1f}L" + "L".join(points) + f"L{xs[-1]:.1f} {zero:.1f}Z"
    top = f"{change(highest)} dB" if highest >= 0.05 else ""
    bottom = f"{change(lowest)} dB" if lowest <= -0.05 else ""
    return Strip(path, line, round(zero, 1), top, bottom, marks=marks)


def _pixels(times_s: NDArray[np.float64], scale: _Scale) -> NDArray[np.float64]:
    """Where ascending times of what comes to a step lie."""
    xs = np.full(len(times_s), np.nan)
    for span in scale.before.spans:
        length_s = float(span.length_s) if span.length_s is not None else np.inf
        first, last = np.searchsorted(times_s, [float(span.output_s), float(span.output_s) + length_s])
        source_s = times_s[first:last] - float(span.output_s) + float(span.source_s)
        xs[first:last] = scale.width * source_s / scale.duration_s
    known = ~np.isnan(xs)
    if known.any():
        xs = np.interp(np.arange(len(xs)), np.flatnonzero(known), xs[known])
    clipped: NDArray[np.float64] = np.clip(np.nan_to_num(xs), 0.0, scale.width)
    return clipped


def figures_of(made: Sketched) -> tuple[str, str]:
    """What a step did in two lines of figures: by how much, and where."""
    if made.done is None:
        return "", ""
    if not made.done.stages:
        return "nothing", "here"
    before, after = made.done.before, made.shape
    told = made.done.step.figures(before, made.done.found)
    if told.get("at_s") is not None:
        return "1 mended", f"at {told['at_s']:.3f} s"
    if "gain_db" in told:
        lowest_db, highest_db = told["gain_db"]
        return f"{change(highest_db)} {change(lowest_db)}", "dB at most"
    if "turned_down" in told:
        return f"{len(told['turned_down'])} gaps", "turned down"
    if after.frames != before.frames:
        places = len(told.get("taken_out", ()))
        longer = "longer" if after.frames > before.frames else "shorter"
        where = f"in {places} place{'s' if places != 1 else ''}" if places else longer
        return f"{change((after.frames - before.frames) / before.rate_hz)} s", where
    if after.layout != before.layout:
        return after.layout.name, f"of {before.layout.name}"
    return "done", ""


def rows_of(
    steps: Sequence[tuple[Step, bool, dict[str, Any]]],
    made: Sequence[Sketched],
    harms: dict[int, tuple[str, ...]],
    duration_s: float,
    width: int,
    under: Callable[[float, int], NDArray[np.float64] | None] = lambda hz, order: None,
) -> list[StepRow]:
    """A row for each step. steps: each with whether it is off and as it is stored; made: of those that are on.

    under: the level every 10 ms of what lies under a frequency in the source, for filters of an order.
    """
    sketched = iter(made)
    rows, done = [], 0
    for number, (step, is_off, stored) in enumerate(steps, 1):
        each = None if is_off else next(sketched)
        done += each is not None and each.done is not None
        figure, under_figure = ("off", "") if each is None else figures_of(each)
        strip = Strip() if each is None else draw_strip(each, duration_s, width)
        if each and isinstance(step, HighPass) and (levels := under(step.hz, step.order)) is not None:
            strip, figure, under_figure = _taken(levels, width, step.hz)
        rows.append(
            StepRow(
                number,
                step.do,
                stored,
                sentence_of(step),
                sentence_of(step, 1),
                strip,
                Handles() if each is None else _handles(each, duration_s, width),
                figure,
                under_figure,
                each.done.words if each and each.done else "",
                each.problem if each else "",
                harms.get(number - 1, ()),
                is_off,
                each.is_exact if each else True,
                done,
            )
        )
    return rows


def _taken(levels: NDArray[np.float64], width: int, hz: float) -> tuple[Strip, str, str]:
    """What lay under a frequency: its course, and its level over all, in two lines."""
    words = f"under {amount(hz)} Hz"
    rms = float(np.sqrt(np.mean(levels**2)))
    if rms <= 10.0 ** (LOWEST_TAKEN_DB / 20.0):
        return Strip(), "nothing", words
    return Strip(taken=outline(levels, 0.0, width, STRIP_HEIGHT)), f"{change(20.0 * math.log10(rms))} dB", words


def first_of(do: str) -> Step:
    """A step as it is added."""
    return STEPS[do].model_validate({"do": do, **STARTS.get(do, {})}, strict=False)


def times_of(duration_s: float, width: int) -> list[tuple[float, str]]:
    """Where times stand on the axis."""
    apart = next((each for each in _APART_S if duration_s / each <= 8), _APART_S[-1])
    return [(round(width * at / duration_s, 1), clock(at)) for at in range(0, int(duration_s) + 1, apart)]


_APART_S = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 3600, 7200)


def length_words(seconds: float) -> str:
    """A length with thousandths: 2:12.412."""
    whole = int(seconds)
    return f"{clock(whole)}{amount(round(seconds - whole, 3))[1:] or '.000'}"
