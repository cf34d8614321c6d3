"""What steps make of a file as a file of its own, so that it can stand beside others."""

from pathlib import Path

from ..files import take_in
from ..files.containers import data_bytes
from ..files.staged import speaking_errors
from ..files.wave_header import wave_header
from ..files.write import packed
from ..signals import Signal
from ..signals.grid import samples_of
from ..steps import Chain
from ..values import OutputFormat, Source
from .in_step import BLOCK_SAMPLES
from .words import common_encoding, in_words, wave_format


def lay_out(path: Path, chain: Chain, to: Path) -> None:
    """Write what a chain makes of a file: where its samples are only chosen among as the file holds them, else as
    floating point that holds all that was computed.

    Raises as reading does, NoSpaceError and NoPermissionError for `to`.
    """
    with take_in(path) as audio, speaking_errors(to), to.open("wb") as file:
        signal = chain.on(audio)
        output = _format_of(audio.source, signal, chain)
        size_bytes = data_bytes(output, signal.shape.frames)
        file.write(wave_header(output, size_bytes, big_magic=b"BW64"))
        for codes in signal.code_blocks(max(1, BLOCK_SAMPLES // signal.shape.channels)):
            words = samples_of(codes) if _is_computed(chain) else in_words(codes, signal.coding, output)
            file.write(packed(words, output))
        file.write(b"\0" * (size_bytes % 2))


def _is_computed(chain: Chain) -> bool:
    return not all(stage.is_selection for stage in chain.stages)


def _format_of(source: Source, signal: Signal, chain: Chain) -> OutputFormat:
    encoding = "float_64" if _is_computed(chain) else common_encoding([source])
    return wave_format(encoding, signal.shape.rate_hz, signal.shape.layout)
