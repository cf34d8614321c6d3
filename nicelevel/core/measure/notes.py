"""What an engineer should look at before going on: a code, a sentence and the places it speaks of.

Thresholds are common practice; where a standard gives one, it is named.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..files.beside import files_of
from ..files.ogg import ending_of
from ..units import ratio_from_db
from ..values import Note, Place, Reading
from ..words import change, figure
from .gating import HOP_S
from .spectrum import steep_edge_hz
from .tick import begins_with_tick

SHORTEST_GATED_S = 0.4
DEAD_AIR_S = 2.0
DC_RATIO = 0.001
NEARLY_SAME_RATIO = 1e-4
QUIETER_DB = 0.5
CUT_DBFS, CUT_HOPS, CUT_BEFORE_HOPS = -45.0, 3, 30
HOLE_HOPS = 3
MISSTATED_DB = 1.0
SAME_PEAK_DB, SAME_PEAK_SHARE, LIMITED_PLR_LU = 0.05, 0.08, 10.0
MOST_PLACES = 200

Rule = Callable[[Reading], Note | None]


@dataclass(frozen=True)
class Traces:
    """What only the pass over the audio could see: where full scale is passed, how late one side copies the other, in
    which 10 ms something is clipped."""

    over_places_s: tuple[Place, ...] = ()
    late_copy_s: float | None = None
    clipped_hops: NDArray[np.bool_] | None = None


def notes_of(reading: Reading, traces: Traces) -> tuple[Note, ...]:
    """All notes that hold for a reading, the gravest first."""
    found = (rule(reading) for rule in _RULES)
    seen = (_clipped(reading, traces), _inter_sample_over(reading, traces), _late_copy(traces))
    return tuple(sorted((note for note in (*found, *seen) if note), key=lambda note: _GRAVEST_FIRST.index(note.code)))


def _digital_silence(reading: Reading) -> Note | None:
    if reading.min_sample == 0.0 == reading.max_sample:
        sentence = "Digital silence from start to end: there is no loudness to bring to a target."
        return Note("digital_silence", sentence)
    return None


def _too_short(reading: Reading) -> Note | None:
    if reading.source.duration_s < SHORTEST_GATED_S:
        return Note("too_short", "Shorter than 0.4 s: loudness cannot be measured.")
    return None


def _clipped(reading: Reading, traces: Traces) -> Note | None:
    if not reading.clipped_samples or traces.clipped_hops is None:
        return None
    places = _places(traces.clipped_hops, reading)
    where = f"in {len(places)} place{'s' if len(places) != 1 else ''}"
    sentence = f"{reading.clipped_samples} samples clipped {where}, recorded so: turning it down will not mend them."
    return Note("clipped", sentence, places)


def _over_full_scale(reading: Reading) -> Note | None:
    if reading.sample_peak_dbfs <= 0.0:
        return None
    peak = change(reading.sample_peak_dbfs)
    kept = "what is not clipped" if reading.clipped_samples else "nothing is lost, and turning it down"
    brings = "comes back when it is turned down" if reading.clipped_samples else "brings it back"
    sentence = f"Samples reach {peak} dBFS, which a floating-point file holds: {kept} {brings}."
    return Note("over_full_scale", sentence, _places(reading.curves.peaks > 1.0, reading))


def _inter_sample_over(reading: Reading, traces: Traces) -> Note | None:
    if reading.sample_peak_dbfs > 0.0 or reading.true_peak_dbtp <= 0.005:
        return None
    sentence = (
        f"The waveform reaches {change(reading.true_peak_dbtp, 2)} dBTP between the samples: converters may clip it."
    )
    return Note("inter_sample_over", sentence, traces.over_places_s[:MOST_PLACES])


def _late_copy(traces: Traces) -> Note | None:
    if traces.late_copy_s is None:
        return None
    side, other = ("right", "left") if traces.late_copy_s > 0 else ("left", "right")
    delay_ms = figure(1000 * abs(traces.late_copy_s), 2)
    sentence = f"The {side} side is the {other} one, {delay_ms} ms later: in mono they cancel in part."
    return Note("late_copy", sentence)


def _dc(reading: Reading) -> Note | None:
    worst = max(reading.dc_offset, key=abs)
    if abs(worst) < DC_RATIO:
        return None
    return Note("dc", f"A constant offset of {figure(100 * worst, 2)} % of full scale lies under the audio.")


def _one_sided(reading: Reading) -> Note | None:
    if reading.mono_kind in ("left_only", "right_only"):
        side, other = ("left", "right") if reading.mono_kind == "left_only" else ("right", "left")
        left, right = reading.true_peak_per_channel_dbtp
        loud, quiet = (left, right) if side == "left" else (right, left)
        rest = f"; what is on the {other}, its peaks {figure(loud - quiet)} dB lower, is no programme"
        return Note(
            "one_sided", f"One-sided: all of the programme is on the {side}{rest if math.isfinite(quiet) else ''}."
        )
    return None


def _inverted(reading: Reading) -> Note | None:
    if reading.mono_kind == "inverted":
        return Note("inverted", "The sides are the same signal in opposite polarity: in mono nothing is left.")
    return None


def _identical(reading: Reading) -> Note | None:
    if reading.mono_kind == "identical" and not _digital_silence(reading):
        return Note("identical", "Both sides carry the same signal: mono in a stereo file.")
    return None


def _copied_side(reading: Reading) -> Note | None:
    """Sides that correlate almost wholly, but are neither the same nor inverted."""
    if reading.mono_kind != "none" or reading.correlation is None:
        return None
    unlike = 1.0 - reading.correlation**2
    left, right = reading.true_peak_per_channel_dbtp
    if unlike < NEARLY_SAME_RATIO and abs(left - right) >= QUIETER_DB and not any(map(math.isinf, (left, right))):
        quieter, by = ("right", left - right) if left > right else ("left", right - left)
        return Note("quieter_copy", f"The {quieter} side is the other one, {figure(by)} dB quieter.")
    if unlike < NEARLY_SAME_RATIO:
        return Note("nearly_identical", "The sides differ by almost nothing: mono with a trace of something else.")
    return None


def _dead_air_head(reading: Reading) -> Note | None:
    return _dead_air(reading, reading.silence_head_s, "head", "start", 0.0)


def _dead_air_tail(reading: Reading) -> Note | None:
    start_s = reading.source.duration_s - reading.silence_tail_s
    return _dead_air(reading, reading.silence_tail_s, "tail", "end", start_s)


def _dead_air(reading: Reading, silence_s: float, code: str, where: str, start_s: float) -> Note | None:
    if not DEAD_AIR_S <= silence_s < reading.source.duration_s:
        return None
    sentence = f"{silence_s:.1f} s of dead air at the {where}."
    return Note(f"dead_air_{code}", sentence, ((start_s, start_s + silence_s),))


def _tick_at_head(reading: Reading) -> Note | None:
    if not begins_with_tick(reading.curves.peaks):
        return None
    return Note("tick_at_head", "A tick in the first ten milliseconds, before the programme begins.", ((0.0, HOP_S),))


def _cut_tail(reading: Reading) -> Note | None:
    """An end at the programme's own level, without any decay."""
    peaks = reading.curves.peaks
    if len(peaks) < CUT_BEFORE_HOPS + CUT_HOPS + 1:
        return None
    last = float(peaks[-CUT_HOPS - 1 : -1].min())
    before = float(np.median(peaks[-CUT_BEFORE_HOPS - CUT_HOPS : -CUT_HOPS]))
    if last < ratio_from_db(CUT_DBFS) or last < 0.5 * before:
        return None
    end_s = reading.source.duration_s
    place = (end_s - CUT_HOPS * HOP_S, end_s)
    return Note("cut_tail", "It ends while still sounding: the tail may be cut.", (place,))


def _silence_inside(reading: Reading) -> Note | None:
    """Samples of exactly 0 in the middle of a programme: a hole, not a pause."""
    holes = [
        place
        for place in _places(reading.curves.peaks == 0.0, reading, HOLE_HOPS)
        if place[0] > reading.silence_head_s and place[1] < reading.source.duration_s - reading.silence_tail_s
    ]
    if not holes:
        return None
    where = f"at {figure(holes[0][0], 2)} s" if len(holes) == 1 else f"in {len(holes)} places"
    return Note("silence_inside", f"Digital silence inside the programme, {where}.", tuple(holes))


def _bits_unused(reading: Reading) -> Note | None:
    declared, used = reading.source.bits_declared, reading.bits_used
    if declared and used and used <= declared - 8:
        return Note("bits_unused", f"Only {used} of {declared} bits ever move.")
    return None


def _steep_edge(reading: Reading) -> Note | None:
    """A steep low-pass inside a file that claims to have lost nothing."""
    if reading.source.bits_declared is None and not reading.source.is_float:
        return None
    edge_hz = steep_edge_hz(reading.curves.spectrum, reading.source.sample_rate_hz)
    if edge_hz is None:
        return None
    sentence = f"Its spectrum ends steeply at {edge_hz / 1000:.1f} kHz: it was once lossy, or made at a lower rate."
    return Note("lossy_ancestry", sentence)


def _level_misstated(reading: Reading) -> Note | None:
    """Players go by the level that a stream states."""
    stated_db, lufs = reading.source.dialnorm_db, reading.integrated_lufs
    if stated_db is None or not math.isfinite(lufs) or abs(stated_db - lufs) <= MISSTATED_DB:
        return None
    off_db = lufs - stated_db
    heard = f"players make it {abs(off_db):.1f} dB too {'loud' if off_db > 0 else 'quiet'}"
    stated = f"It states a dialogue level of {figure(stated_db, 0)} dB and has {figure(lufs)} LUFS"
    return Note("level_misstated", f"{stated}: {heard}.")


def _limiter_left_on(reading: Reading) -> Note | None:
    """Many peaks at one level and little between peak and loudness."""
    peaks, plr_lu = reading.curves.peaks, reading.plr_lu
    sounding = peaks[peaks > ratio_from_db(-60.0)]
    if plr_lu is None or plr_lu > LIMITED_PLR_LU or len(sounding) < 100:
        return None
    same = float(np.mean(sounding >= ratio_from_db(-SAME_PEAK_DB) * float(peaks.max())))
    if same < SAME_PEAK_SHARE:
        return None
    sentence = (
        f"{100 * same:.0f} % of its peaks stand at one level, {figure(plr_lu)} LU over the loudness: "
        "a limiter was probably left on."
    )
    return Note("limiter_left_on", sentence)


def _without_end(reading: Reading) -> Note | None:
    source = reading.source
    if source.container == "ogg" and any(ending_of(each) == "without an end" for each in files_of(source.path)):
        return Note("without_end", "The stream does not say that it ends here: it may have been cut off.")
    return None


def _layout_assumed(reading: Reading) -> Note | None:
    layout = reading.source.layout
    if layout.assumed:
        sentence = f"The file does not name its channels: {layout.name} in the usual order is assumed."
        return Note("layout_assumed", sentence)
    return None


def _layout_unknown(reading: Reading) -> Note | None:
    if reading.source.layout.name == "unknown":
        channels = reading.source.channels
        return Note("layout_unknown", f"{channels} channels in no known layout: each counts alike in the loudness.")
    return None


def _places(hops: NDArray[np.bool_], reading: Reading, shortest_hops: int = 1) -> tuple[Place, ...]:
    """Start and end in seconds of each run of hops, the first ones where there are too many to list."""
    padded = np.concatenate(([False], hops, [False])).astype(np.int8)
    starts, ends = np.flatnonzero(np.diff(padded) == 1), np.flatnonzero(np.diff(padded) == -1)
    long_enough = ends - starts >= shortest_hops
    runs = zip(starts[long_enough].tolist(), ends[long_enough].tolist(), strict=True)
    end_s = reading.source.duration_s
    return tuple((start * HOP_S, min(end * HOP_S, end_s)) for start, end in runs)[:MOST_PLACES]


_RULES: tuple[Rule, ...] = (
    _digital_silence,
    _too_short,
    _over_full_scale,
    _one_sided,
    _inverted,
    _silence_inside,
    _cut_tail,
    _tick_at_head,
    _dead_air_head,
    _dead_air_tail,
    _level_misstated,
    _limiter_left_on,
    _steep_edge,
    _dc,
    _copied_side,
    _identical,
    _bits_unused,
    _without_end,
    _layout_assumed,
    _layout_unknown,
)

_GRAVEST_FIRST = (
    "digital_silence",
    "without_end",
    "too_short",
    "clipped",
    "over_full_scale",
    "one_sided",
    "inverted",
    "silence_inside",
    "cut_tail",
    "tick_at_head",
    "dead_air_head",
    "dead_air_tail",
    "inter_sample_over",
    "late_copy",
    "level_misstated",
    "limiter_left_on",
    "lossy_ancestry",
    "dc",
    "quieter_copy",
    "nearly_identical",
    "identical",
    "bits_unused",
    "layout_assumed",
    "layout_unknown",
)
