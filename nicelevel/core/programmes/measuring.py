"""One programme of a file as a signal, and its reading."""

from dataclasses import replace
from pathlib import Path

from ..ahead import ahead
from ..files import Audio, take_in
from ..files.codes import WORDS_32
from ..files.selected import Selected
from ..measure import BLOCK_FRAMES, Meter
from ..signals import Signal
from ..signals.later import Later
from ..values import Reading, Shape
from .programme import Programme
from .words import at_the_top


def signal_of(audio: Audio, programme: Programme, first: int = 0) -> Signal:
    """Its channels in its layout. first: the frame that it begins at."""
    shape = Shape(audio.shape.rate_hz, programme.layout, audio.shape.frames)
    chosen = Selected(audio, [number - 1 for number in programme.channels], shape)
    return Later(chosen, first) if first else chosen


def measure_programme(path: Path, programme: Programme, first: int = 0) -> Reading:
    """Every figure of it, as of a file that holds nothing else. Raises as `measure`."""
    with take_in(path) as audio:
        chosen, coding = signal_of(audio, programme, first), audio.coding
        source = replace(audio.source, layout=programme.layout, frames=chosen.shape.frames)
        meter = Meter(source, WORDS_32 if coding.is_whole else coding)
        with ahead(chosen.code_blocks(BLOCK_FRAMES)) as coming:
            for codes in coming:
                meter.feed(at_the_top(codes, coding) if coding.is_whole else codes)
        return meter.reading()
