"""How lengths, sizes, rates and specs are written, on screen and in tables."""

import math
import re

from nicelevel.core.specs.format_words import encoding_word
from nicelevel.core.values import Source
from nicelevel.core.words import MINUS, amount, change, figure

__all__ = [
    "NOTHING",
    "amount",
    "change",
    "figure",
    "length",
    "level",
    "megabytes",
    "rate",
    "time_left",
    "unbroken",
    "value",
    "word_length",
]

NOTHING = "–"
"""Stands where a figure does not exist."""


def level(value: float | None, signed: bool = False, decimals: int = 1) -> str:
    """A level with a true minus sign; a dash where there is none. `signed` also shows a plus."""
    if value is None or not math.isfinite(value):
        return NOTHING
    text = figure(value, decimals)
    return text if text.startswith(MINUS) or not signed or value <= 0 else f"+{text}"


def value(number: float | None) -> str:
    """A figure as a program compares it; nothing where there is none."""
    return f"{number:.4f}" if number is not None and math.isfinite(number) else ""


def unbroken(text: str) -> str:
    """The same text with every figure kept on one line with its unit."""
    return re.sub(r"(?<=\d) (?=[A-Za-z])", "\u00a0", text)


def length(seconds: float) -> str:
    """1:02:03, 28:40, 0:30.2: tenths only under a minute."""
    if seconds < 60:
        return f"0:{math.floor(seconds * 10) / 10:04.1f}"
    whole = round(seconds)
    hours, minutes, rest = whole // 3600, whole % 3600 // 60, whole % 60
    return f"{hours}:{minutes:02d}:{rest:02d}" if hours else f"{minutes}:{rest:02d}"


def moment(seconds: float) -> str:
    """A place in a programme, to a tenth: 0:07.3, 12:05.0, 1:02:03.4."""
    tenths = round(seconds * 10)
    hours, minutes, rest = tenths // 36_000, tenths % 36_000 // 600, tenths % 600 / 10
    return f"{hours}:{minutes:02d}:{rest:04.1f}" if hours else f"{minutes}:{rest:04.1f}"


def time_left(seconds: float) -> str:
    """48 s, 3:20, 1:02:00: never less than a second."""
    whole = max(1, math.ceil(seconds))
    return f"{whole} s" if whole < 60 else length(whole)


def megabytes(size_bytes: int | None) -> str:
    """Size in MB of 1,000,000 bytes."""
    if size_bytes is None:
        return NOTHING
    megas = size_bytes / 1e6
    return f"{megas:.0f}" if megas >= 100 else f"{megas:.1f}" if megas >= 0.1 else f"{megas:.3f}"


def rate(sample_rate_hz: int) -> str:
    """48k, 44.1k."""
    return f"{sample_rate_hz / 1000:g}k"


def word_length(source: Source) -> str:
    """24, 32f where the samples are floating point, MP3 where they have no word length."""
    if source.bits_declared:
        return str(source.bits_declared)
    return f"{source.encoding.rpartition('_')[2]}f" if source.is_float else encoding_word(source.encoding)
