"""The reading that a file will have, computed from the reading of its source. No audio is touched."""

from dataclasses import replace

from ..files.containers import container_of, data_bytes
from ..files.wave_header import wave_header
from ..measure.gating import scaled
from ..measure.meter import loudness_figures
from ..units import ratio_from_db
from ..values import Curves, OutputFormat, Reading


def after_gain(reading: Reading, gain_db: float) -> Reading:
    """The reading after a plain gain: loudness gated anew, peaks and levels moved."""
    if gain_db == 0.0:
        return reading
    ratio = ratio_from_db(gain_db)
    kept = reading.curves
    curves = Curves(
        energies=scaled(kept.energies, gain_db),
        peaks=(kept.peaks * ratio).astype("float32"),
        correlations=kept.correlations,
        spectrum=(kept.spectrum * ratio**2).astype("float32"),
    )
    return replace(
        reading,
        curves=curves,
        true_peak_per_channel_dbtp=tuple(peak + gain_db for peak in reading.true_peak_per_channel_dbtp),
        sample_peak_dbfs=reading.sample_peak_dbfs + gain_db,
        rms_dbfs=reading.rms_dbfs + gain_db,
        min_sample=reading.min_sample * ratio,
        max_sample=reading.max_sample * ratio,
        dc_offset=tuple(offset * ratio for offset in reading.dc_offset),
        **loudness_figures(curves),
    )


def in_format(reading: Reading, output: OutputFormat) -> Reading:
    """The same programme in the format of the deliverable, with the size of its file where that is certain."""
    frames = reading.source.frames
    samples_bytes = data_bytes(output, frames)
    container = container_of(output, samples_bytes)
    written = replace(
        reading.source,
        container=container,
        encoding="flac" if container == "flac" else output.encoding,
        bits_declared=output.bits,
        bitrate_kbps=None,
        size_bytes=_size_bytes(output, container, samples_bytes),
    )
    return replace(reading, source=written)


def _size_bytes(output: OutputFormat, container: str, samples_bytes: int) -> int | None:
    if container in ("wav", "rf64"):
        return len(wave_header(output, samples_bytes)) + samples_bytes + samples_bytes % 2
    return None
