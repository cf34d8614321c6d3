"""How large a file will be: to the byte for plain samples, to one frame for constant bit rates, else about."""

from dataclasses import dataclass

from ..codecs import CONSTANT, coded_bytes
from ..files.containers import container_of, data_bytes
from ..files.wave_header import wave_header
from ..files.write import overhead_bytes
from ..prepare import Measured
from ..values import OutputFormat, Reading
from .packed_sizes import packed_bytes


@dataclass(frozen=True)
class Size:
    """Bytes of a file, and whether its contents may still move them a little."""

    size_bytes: int
    is_estimate: bool = False


def size_of(measured: Measured, predicted: Reading, output: OutputFormat, gain_db: float) -> Size:
    """The size of the file that a prepared signal becomes; predicted: its reading after gain and limiter."""
    source = predicted.source
    samples_bytes = data_bytes(output, source.frames)
    if output.lossless:
        return Size(packed_bytes(measured, predicted, output, gain_db), is_estimate=True)
    if output.bitrate_kbps is not None:
        return _coded_size(output, source.frames)
    if container_of(output, samples_bytes) in ("wav", "rf64"):
        return Size(len(wave_header(output, samples_bytes)) + samples_bytes + samples_bytes % 2)
    around = overhead_bytes(output.container, output.encoding, output.sample_rate_hz, len(output.layout.positions))
    return Size(around + samples_bytes + samples_bytes % 2)


def _coded_size(output: OutputFormat, frames: int) -> Size:
    """Of a bit rate: of codecs that keep to it with the frames that they make of the programme."""
    assert output.bitrate_kbps
    size_bytes = coded_bytes(output.encoding, output.sample_rate_hz, output.bitrate_kbps, frames)
    return Size(size_bytes, output.bitrate_mode == "variable" or output.encoding not in CONSTANT)
