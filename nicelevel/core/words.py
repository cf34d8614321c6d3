"""Figures inside sentences: one decimal where engineers speak in tenths, a true minus sign."""

import math
import re
from collections.abc import Sequence

MINUS = "−"


def figure(value: float, decimals: int = 1) -> str:
    """A figure as it stands in a sentence: −23.0, 0.4. A level of nothing is said in words."""
    if math.isinf(value) or math.isnan(value):
        return "nothing"
    text = f"{value:.{decimals}f}"
    return MINUS + text[1:] if text.startswith("-") and float(text) != 0.0 else text.lstrip("-")


def change(value_db: float, decimals: int = 1) -> str:
    """A gain with its sign: +6.4, −1.6."""
    text = figure(value_db, decimals)
    return text if text.startswith(MINUS) else f"+{text}"


def amount(number: float) -> str:
    """A figure of a spec without needless zeros: −23, 0.5, −1.5."""
    text = f"{number:g}"
    return MINUS + text[1:] if text.startswith("-") else text


def clock_time(seconds: float) -> str:
    """A length as it is read off a clock: 0:03.1, 41:07.0."""
    tenths = round(seconds * 10)
    return f"{tenths // 600}:{tenths % 600 / 10:04.1f}"


def counted(number: int, noun: str) -> str:
    """So many of something: 1 file, 12 files."""
    return f"{number} {noun}{'' if number == 1 else 's'}"


def listed(names: Sequence[str]) -> str:
    """Names one after the other, as a sentence has them: "a", "a and b", "a, b and c"."""
    return " and ".join(filter(None, (", ".join(names[:-1]), *names[-1:])))


def asked_and_found(text: str, found: object) -> str:
    """What a rule asks for, as its finding says it, and what was found: for one that is not met."""
    shown = figure(found, 2) if isinstance(found, float) else str(found)
    return f"asked {re.sub(r'-(?=[0-9])', MINUS, text)}, found {shown}"
