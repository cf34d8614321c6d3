"""What an encoder will do to a programme, told from its most critical seconds: they are encoded before the whole is.

The places where a programme is densest under its peak are where an encoder passes it most. Encoding half a minute of
them takes a twentieth of what a song takes, and spares the round whose result is thrown away.
"""

import math
import statistics
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from operator import attrgetter
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from .errors import UnsupportedError
from .files import open_sink, take_in
from .measure import Meter, measure
from .measure.envelope import ENVELOPE_HOPS_PER_SECOND, HOPS_PER_ENERGY
from .plan.limiter import Limited
from .prepare import Measured
from .render import rendered_piece
from .scratch import ScratchFolder
from .units import energy_from_lufs, lufs_from_energy, seconds_from_frames
from .values import OutputFormat, Plan, Reading, Source

PIECES, PIECE_S = 8, 4
AT_ONCE = 2
"""Into so many files: they are encoded side by side."""

SHORTEST_S = 3 * PIECES * PIECE_S
"""A shorter programme is encoded at once."""

ROOM_DB, AAC_ROOM_DB = 0.2, 0.35
"""The whole programme may pass its peak by so much more than its most critical seconds do (found by trying)."""

FADE_S = 0.01
"""Each piece begins and ends softly: a step between two of them would ring in the encoder."""

DENSITY_POWER = 8
"""Peaks count by this power: those near the highest alone."""

TRIED_S, MOST_TRIES, CLOSE_RATIO, MOST_RAISED = 2, 4, 0.02, 1.5
"""A nominal bit rate is tried on PIECES of this length: how often, how near is near enough, and how far it is raised
for a calm programme."""

STEPS_PER_SECOND = ENVELOPE_HOPS_PER_SECOND // HOPS_PER_ENERGY


def expected_reading(path: Path, plan: Plan, limited: Limited | None, measured: Measured) -> Reading | None:
    """The reading that the encoded file will have about; None where it is as well encoded at once.

    measured: the plan's prepared signal; limited: what its limiter makes of it.
    """
    source = measured.reading.source
    if source.duration_s < SHORTEST_S:
        return None
    starts_s = critical_starts_s(measured.reading.curves.peaks, limited)

    def encode(starts_s: list[int]) -> tuple[Reading, Reading]:
        medley = _medley(path, plan, limited, source, starts_s)
        return _measured(medley, source), _encoded(medley, plan)

    with ThreadPoolExecutor(AT_ONCE) as pool:
        try:
            before, after = zip(*pool.map(encode, [starts_s[n::AT_ONCE] for n in range(AT_ONCE)]), strict=True)
        except UnsupportedError:
            return None
    room_db = AAC_ROOM_DB if plan.output.coding == "aac" else ROOM_DB
    true_peak_db, sample_peak_db = (
        max(map(peak, after)) - max(map(peak, before)) + room_db
        for peak in (attrgetter("true_peak_dbtp"), attrgetter("sample_peak_dbfs"))
    )
    return _moved(plan.predicted, _level_lufs(after) - _level_lufs(before), true_peak_db, sample_peak_db)


def nominal_kbps(path: Path, plan: Plan, limited: Limited | None, measured: Measured) -> float | None:
    """The nominal bit rate at which an encoder that has only those comes to the one that a plan asks for.

    Found by encoding pieces from all over the programme; None where that cannot be tried.
    """
    source, asked_kbps = measured.reading.source, plan.output.bitrate_kbps
    assert asked_kbps
    seconds = math.ceil(source.duration_s)
    is_whole = seconds <= PIECES * TRIED_S
    starts_s = [0] if is_whole else [(seconds - TRIED_S) * n // (PIECES - 1) for n in range(PIECES)]
    try:
        medley = _medley(path, plan, limited, source, starts_s, seconds if is_whole else TRIED_S)
    except UnsupportedError:
        return None
    nominal, tried, duration_s = asked_kbps, [], seconds_from_frames(len(medley), source.sample_rate_hz)
    for _ in range(MOST_TRIES):
        found_kbps = _coded_bytes(medley, plan, nominal) * 8 / 1000 / duration_s
        tried.append((abs(found_kbps - asked_kbps), nominal))
        if abs(found_kbps - asked_kbps) <= CLOSE_RATIO * asked_kbps:
            break
        nominal = min(nominal * asked_kbps / found_kbps, MOST_RAISED * asked_kbps)
    # Some bit rates lie between two that an encoder jumps over.
    return min(tried)[1]


def _coded_bytes(medley: NDArray[np.float64], plan: Plan, nominal: float) -> int:
    with ScratchFolder() as folder:
        path = Path(folder) / "rehearsal"
        _write(medley, path, replace(plan.output, nominal_kbps=nominal))
        return path.stat().st_size


def critical_starts_s(peaks: NDArray[np.float32], limited: Limited | None) -> list[int]:
    """Where the PIECES pieces of PIECE_S begin that are densest under the peak; none overlaps another.

    peaks: of every 10 ms before gain and limiter.
    """
    levels = peaks.astype(np.float64)
    if limited:
        levels = levels[: len(limited.lowest)] * limited.lowest[: len(levels)]
    whole = levels[: len(levels) // STEPS_PER_SECOND * STEPS_PER_SECOND] / max(1e-9, levels.max())
    seconds = (whole**DENSITY_POWER).reshape(-1, STEPS_PER_SECOND).sum(axis=1)
    scores = np.convolve(seconds, np.ones(PIECE_S), "valid")
    starts: list[int] = []
    for _ in range(PIECES):
        start = int(scores.argmax())
        starts.append(start)
        scores[max(0, start - PIECE_S + 1) : start + PIECE_S] = -1.0
    return sorted(starts)


def _medley(
    path: Path, plan: Plan, limited: Limited | None, source: Source, starts_s: list[int], piece_s: int = PIECE_S
) -> NDArray[np.float64]:
    rate_hz = source.sample_rate_hz
    fade = np.sin(np.linspace(0.0, np.pi / 2, min(round(FADE_S * rate_hz), source.frames))) ** 2
    places = [(start_s * rate_hz, min(source.frames, (start_s + piece_s) * rate_hz)) for start_s in starts_s]
    medley, done = np.empty((sum(last - first for first, last in places), source.channels)), 0
    with take_in(path) as audio:
        for first, last in places:
            piece = medley[done : done + last - first]
            piece[:] = rendered_piece(audio, plan, limited, first, last)
            piece[: len(fade)] *= fade[:, None]
            piece[-len(fade) :] *= fade[::-1, None]
            done += len(piece)
    return medley


def _measured(medley: NDArray[np.float64], source: Source) -> Reading:
    meter = Meter(replace(source, encoding="float_64", bits_declared=None, frames=len(medley)))
    meter.feed(medley)
    return meter.reading()


def _encoded(medley: NDArray[np.float64], plan: Plan) -> Reading:
    with ScratchFolder() as folder:
        path = Path(folder) / "rehearsal"
        _write(medley, path, plan.output)
        return measure(path)


def _write(medley: NDArray[np.float64], path: Path, output: OutputFormat) -> None:
    sink = open_sink(path, output, len(medley))
    try:
        sink.write(medley)
    finally:
        sink.close()


def _level_lufs(readings: Sequence[Reading]) -> float:
    """The level of programmes of equal length together."""
    return lufs_from_energy(statistics.mean(energy_from_lufs(each.integrated_lufs) for each in readings))


def _moved(reading: Reading, level_db: float, true_peak_db: float, sample_peak_db: float) -> Reading:
    return replace(
        reading,
        integrated_lufs=reading.integrated_lufs + level_db,
        max_momentary_lufs=reading.max_momentary_lufs + level_db,
        max_short_term_lufs=reading.max_short_term_lufs + level_db,
        rms_dbfs=reading.rms_dbfs + level_db,
        dialogue_lufs=None if reading.dialogue_lufs is None else reading.dialogue_lufs + level_db,
        true_peak_per_channel_dbtp=tuple(peak + true_peak_db for peak in reading.true_peak_per_channel_dbtp),
        sample_peak_dbfs=reading.sample_peak_dbfs + sample_peak_db,
    )
