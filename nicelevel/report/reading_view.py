"""Everything that the Reading screen says of a file: figures with their meaning, places, distribution, spectrum."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.measure.gating import (
    HOPS_PER_SECOND,
    MOMENTARY_HOPS,
    SHORT_TERM_HOPS,
    gating_blocks,
    relative_gate_lufs,
    series_lufs,
    short_term_steps,
    window_energies,
)
from nicelevel.core.measure.loudness_range import range_ends_lufs
from nicelevel.core.measure.spectrum import sixteenth_octaves
from nicelevel.core.measure.waveform import BINS_JOINED, FULL_SCALE, LEVELS
from nicelevel.core.speech import Dialogue
from nicelevel.core.values import Note, Reading

from .as_json import null_unless_finite
from .board_words import short_note
from .words import length, level, megabytes, rate

GRAVE = frozenset(
    {
        "clipped",
        "over_full_scale",
        "one_sided",
        "inverted",
        "digital_silence",
        "silence_inside",
        "cut_tail",
        "inter_sample_over",
    }
)
"""Notes of what is wrong with the audio itself; the others ask for a look."""

CHANNEL_NAMES = {
    "L": "Left",
    "R": "Right",
    "C": "Centre",
    "Ls": "Left side",
    "Rs": "Right side",
    "Lb": "Left back",
    "Rb": "Right back",
}


@dataclass(frozen=True)
class Figure:
    """One figure: its name, how it is written, what it means in a line; bad where it stands for a fault."""

    name: str
    text: str
    meaning: str
    is_bad: bool = False


Group = tuple[str, tuple[Figure, ...]]


def figure_groups(reading: Reading) -> tuple[Group, ...]:
    """All figures under their headings, in reading order."""
    return (
        ("Loudness", _loudness(reading)),
        ("Peaks", _peaks(reading)),
        ("Channels and words", _channels_and_words(reading)),
    )


def _loudness(reading: Reading) -> tuple[Figure, ...]:
    gate = relative_gate_lufs(gating_blocks(reading.curves.energies))
    return (
        Figure("Integrated", f"{level(reading.integrated_lufs)} LUFS", "loudness of the whole, gated"),
        Figure("Relative gate", f"{level(gate)} LUFS", "quieter than this does not count"),
        Figure("Loudness range", f"{level(reading.loudness_range_lu)} LU", "from quiet to loud passages"),
        Figure(
            f"Loudest 3 s{_at(reading, SHORT_TERM_HOPS)}",
            f"{level(reading.max_short_term_lufs)} LUFS",
            "largest short-term loudness",
        ),
        Figure(
            f"Loudest 400 ms{_at(reading, MOMENTARY_HOPS)}",
            f"{level(reading.max_momentary_lufs)} LUFS",
            "largest momentary loudness",
        ),
        Figure("Peak to loudness", f"{level(reading.plr_lu)} LU", "true peak over integrated"),
        Figure("RMS", f"{level(reading.rms_dbfs)} dB", "mean power of all samples: not loudness"),
    )


def speech_figures(dialogue: Dialogue) -> tuple[Figure, ...]:
    """What is spoken by itself."""
    if not dialogue.places:
        return (Figure("Speech", "none", "nobody speaks in it"),)
    first_s = dialogue.places[0][0]
    return (
        Figure("Speech alone", f"{level(dialogue.lufs)} LUFS", "gated, with what sounds beside it"),
        Figure("Somebody speaks", f"{100 * dialogue.share:.0f} %", f"of the time, from {length(first_s)} on"),
    )


def _peaks(reading: Reading) -> tuple[Figure, ...]:
    peaks = reading.true_peak_per_channel_dbtp
    worst = max(reading.dc_offset, key=abs)
    figures = [
        Figure(
            "True peak",
            f"{level(reading.true_peak_dbtp, signed=True, decimals=2)} dBTP",
            "of the waveform between the samples",
            reading.true_peak_dbtp > 0.0,
        ),
        Figure("Sample peak", f"{level(reading.sample_peak_dbfs, signed=True, decimals=2)} dBFS", "largest sample"),
        Figure("Clipped samples", str(reading.clipped_samples), "runs at full scale", reading.clipped_samples > 0),
        Figure("DC, largest", f"{100 * worst:.2f} %".replace("-", "−"), "a constant offset takes headroom"),
    ]
    if len(peaks) == 2:
        by_channel = " ".join(level(peak, signed=True) for peak in peaks)
        figures.insert(1, Figure("True peak by channel", by_channel, ", ".join(channel_names(reading))))
    return tuple(figures)


def _channels_and_words(reading: Reading) -> tuple[Figure, ...]:
    figures = []
    if reading.correlation is not None:
        text = f"{reading.correlation:+.2f}".replace("-", "−")
        figures.append(
            Figure("Correlation", text, "+1 the same, 0 unrelated, −1 opposite", reading.correlation < -0.5)
        )
    if reading.source.bits_declared:
        used = f"{reading.bits_used} of {reading.source.bits_declared}"
        figures.append(Figure("Bits that move", used, "fewer: it was a shorter word once"))
    silence = f"{reading.silence_head_s:.2f} {reading.silence_tail_s:.2f} s"
    figures.append(Figure("Silence at head, tail", silence, "under −60 dBFS"))
    return tuple(figures)


def _at(reading: Reading, window_hops: int) -> str:
    """Where the loudest window begins, for the figure's name."""
    windows = window_energies(reading.curves.energies, window_hops)
    return f", at {length(int(np.argmax(windows)) / HOPS_PER_SECOND)}" if len(windows) and windows.max() > 0 else ""


def channel_names(reading: Reading) -> list[str]:
    """What each channel is called; numbers where the layout is unknown."""
    positions = reading.source.layout.positions
    if len(positions) == 1:
        return ["Mono"]
    return [CHANNEL_NAMES.get(each or "", each or f"Ch {at + 1}") for at, each in enumerate(positions)]


def facts_line(reading: Reading) -> str:
    """WAV 24 bit · 96 kHz · stereo · 3:41 · 127.4 MB"""
    source = reading.source
    bits = f"{source.bits_declared} bit" if source.bits_declared else source.encoding.replace("_", " ")
    layout = source.layout.name if source.layout.name != "unknown" else f"{source.channels} channels"
    kind = f"{source.container.upper()} {bits}"
    parts = (kind, f"{rate(source.sample_rate_hz)[:-1]} kHz", layout, length(source.duration_s))
    return " · ".join((*parts, f"{megabytes(source.size_bytes)} MB"))


def reading_text(title: str, reading: Reading) -> str:
    """All figures and notes as plain text, to be pasted anywhere."""
    lines = [title, facts_line(reading)]
    for heading, figures in figure_groups(reading):
        lines += ["", heading, *(f"  {each.name}: {each.text}" for each in figures)]
    if reading.notes:
        lines += ["", "Notes", *(f"  {note.sentence}" for note in reading.notes)]
    return "\n".join(lines) + "\n"


def drawing_data(reading: Reading) -> dict[str, Any]:
    """What the time view needs besides its curves, computed here so that the page only draws."""
    curves, source = reading.curves, reading.source
    ends = range_ends_lufs(short_term_steps(curves.energies))
    gate = relative_gate_lufs(gating_blocks(curves.energies))
    data = {
        "rate_hz": source.sample_rate_hz,
        "frames": source.frames,
        "duration_s": source.duration_s,
        "channels": channel_names(reading),
        "true_peaks": [level(peak, signed=True) for peak in reading.true_peak_per_channel_dbtp],
        "full_scale": FULL_SCALE,
        "levels": LEVELS,
        "bins_joined": BINS_JOINED,
        "integrated_lufs": reading.integrated_lufs,
        "gate_lufs": gate,
        "range_lufs": list(ends) if ends else None,
        "range_lu": reading.loudness_range_lu,
        "histogram": histogram(curves.energies),
        "spectrum": sixteenth_octaves(curves.spectrum, source.sample_rate_hz),
        "notes": [_note(note) for note in reading.notes if note.places],
        "overs": [list(place) for note in reading.notes if note.code in _OVERS for place in note.places],
    }
    answer: dict[str, Any] = null_unless_finite(data)
    return answer


_OVERS = ("clipped", "over_full_scale", "inter_sample_over")


def _note(note: Note) -> dict[str, Any]:
    count = f" {len(note.places)}×" if len(note.places) > 1 else ""
    return {
        "word": short_note(note) + count,
        "sentence": note.sentence,
        "places": [list(place) for place in note.places],
        "grave": note.code in GRAVE,
    }


def histogram(energies: NDArray[np.float64]) -> list[tuple[int, float]]:
    """Share of the short-term values in each LU, by the LU's lower end; values at or under −70 LUFS are left out.

    energies: as in `Curves`.
    """
    series = series_lufs(energies, SHORT_TERM_HOPS)
    audible = series[~np.isnan(series)]
    if len(audible) == 0:
        return []
    values, counts = np.unique(np.floor(audible).astype(int), return_counts=True)
    return [(int(value), float(count / len(audible))) for value, count in zip(values, counts, strict=True)]


def series_bytes(reading: Reading) -> bytes:
    """Momentary, short-term and correlation every 0.1 s as float32, one after the other; NaN where there is none."""
    energies = reading.curves.energies
    count = math.ceil(reading.source.duration_s * 10)
    rows = (
        series_lufs(energies, MOMENTARY_HOPS),
        series_lufs(energies, SHORT_TERM_HOPS),
        reading.curves.correlations,
    )
    return b"".join(padded(row, count).tobytes() for row in rows)


def padded(row: Any, count: int) -> Any:
    """A series as so many float32 values, NaN where it has ended."""
    values = np.full(count, np.nan, "<f4")
    values[: len(row)] = row[:count]
    return values
