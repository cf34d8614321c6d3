"""The reading that a file will have, computed from that of its prepared signal. No audio is touched."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..files.ac3 import dialnorm_of
from ..files.containers import container_of, data_bytes
from ..measure.gating import MOMENTARY_HOPS, loudest_lufs, scaled, short_term_steps
from ..measure.loudness_range import loudness_range_lu, range_of_sorted_lu
from ..prepare import Measured
from ..units import db_from_ratio, ratio_from_db
from ..values import OutputFormat, Plan, Reading
from .limit import level_after
from .limiter import Limited
from .sizes import size_of


def after_gain(measured: Measured, gain_db: float) -> Reading:
    """The reading after a plain gain: loudness gated anew, peaks and levels moved."""
    reading = measured.reading.without_curves()
    if gain_db == 0.0:
        return reading
    return _moved(
        reading,
        gain_db,
        integrated_lufs=measured.blocks.integrated_lufs(gain_db),
        loudness_range_lu=range_of_sorted_lu(scaled(measured.short_term_sorted, gain_db)),
        max_momentary_lufs=reading.max_momentary_lufs + gain_db,
        max_short_term_lufs=reading.max_short_term_lufs + gain_db,
        true_peak_per_channel_dbtp=tuple(peak + gain_db for peak in reading.true_peak_per_channel_dbtp),
        sample_peak_dbfs=reading.sample_peak_dbfs + gain_db,
        rms_dbfs=reading.rms_dbfs + gain_db,
        dialogue_lufs=None if measured.speech is None else measured.spoken_blocks.integrated_lufs(gain_db),
    )


def after_limiting(measured: Measured, gain_db: float, limited: Limited) -> Reading:
    """The reading after a gain and the limiter: every loudness from the energies that are left."""
    reading, energies = measured.reading.without_curves(), limited.left.energies
    true_peak_dbtp, sample_peak_dbfs = db_from_ratio(limited.true_peak), db_from_ratio(limited.sample_peak)
    return _moved(
        reading,
        gain_db,
        integrated_lufs=level_after("integrated", measured, limited.left),
        loudness_range_lu=loudness_range_lu(short_term_steps(energies)),
        max_momentary_lufs=loudest_lufs(energies, MOMENTARY_HOPS),
        max_short_term_lufs=level_after("max_short_term", measured, limited.left),
        true_peak_per_channel_dbtp=tuple(
            min(peak + gain_db, true_peak_dbtp) for peak in reading.true_peak_per_channel_dbtp
        ),
        sample_peak_dbfs=min(reading.sample_peak_dbfs + gain_db, sample_peak_dbfs),
        rms_dbfs=level_after("rms", measured, limited.left),
        dialogue_lufs=None if measured.speech is None else level_after("dialogue", measured, limited.left),
    )


@dataclass(frozen=True)
class Course:
    """A planned programme over time: energies as in `Curves`, channels, and what a limiter takes, where one works."""

    energies: NDArray[np.float64]
    channels: int
    reductions_db: NDArray[np.float64] | None


def after_plan(measured: Measured, plan: Plan, limited: Limited | None) -> Course:
    """How the programme of a plan goes over time, for drawing. limited: what its limiter makes of it."""
    channels = measured.reading.source.channels
    if limited is None:
        return Course(scaled(measured.reading.curves.energies, plan.gain_db), channels, None)
    return Course(limited.left.energies, channels, -20.0 * np.log10(limited.lowest.astype(np.float64)))


def _moved(reading: Reading, gain_db: float, **figures: Any) -> Reading:
    """A reading with new figures; what moves with the gain alone is moved here."""
    ratio, peak = ratio_from_db(gain_db), ratio_from_db(figures["sample_peak_dbfs"])
    return replace(
        reading,
        min_sample=max(-peak, reading.min_sample * ratio),
        max_sample=min(peak, reading.max_sample * ratio),
        dc_offset=tuple(offset * ratio for offset in reading.dc_offset),
        **figures,
    )


def in_format(measured: Measured, reading: Reading, output: OutputFormat, gain_db: float) -> Reading:
    """The same programme in the format of the deliverable, with the size of its file.

    reading: of the prepared signal after that gain, and after a limiter where one works.
    """
    source = reading.source
    states_level = output.encoding == "ac3" and output.dialnorm_db is None
    size = size_of(measured, reading, output, gain_db)
    written = replace(
        source,
        container=container_of(output, data_bytes(output, source.frames)),
        encoding=output.lossless or output.encoding,
        bits_declared=output.bits,
        bitrate_kbps=output.bitrate_kbps,
        size_bytes=size.size_bytes,
        size_is_estimate=size.is_estimate,
        dialnorm_db=dialnorm_of(reading.level_to_state_lufs) if states_level else output.dialnorm_db,
    )
    return replace(reading, source=written)
