"""The reading of one programme of a file."""

from dataclasses import replace
from pathlib import Path

from ..ahead import ahead
from ..files import take_in
from ..files.codes import WORDS_32
from ..files.selected import Selected
from ..measure import BLOCK_FRAMES, Meter
from ..values import Reading
from .programme import Programme
from .words import at_the_top


def measure_programme(path: Path, programme: Programme) -> Reading:
    """Every figure of it, as of a file that holds nothing else. Raises as `measure`."""
    with take_in(path) as audio:
        source, coding = replace(audio.source, layout=programme.layout), audio.coding
        meter = Meter(source, WORDS_32 if coding.is_whole else coding)
        chosen = Selected(audio, [number - 1 for number in programme.channels], source.shape)
        with ahead(chosen.code_blocks(BLOCK_FRAMES)) as coming:
            for codes in coming:
                meter.feed(at_the_top(codes, coding) if coding.is_whole else codes)
        return meter.reading()
