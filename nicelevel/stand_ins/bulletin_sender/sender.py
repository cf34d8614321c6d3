"""One file that is sent: piece by piece, in time lapse, right or with a fault."""

import io
import time
from collections.abc import Callable
from pathlib import Path
from typing import Literal, get_args

import numpy as np
import soundfile

Fault = Literal["cut", "silent", "text", "twice", "late", "renamed"]
FAULTS: tuple[Fault, ...] = get_args(Fault)
"""cut: it breaks off in its middle; silent: nothing is heard in it; text: it is no audio; twice: it comes once more;
late: it begins as late again as it takes; renamed: it grows under a temporary name, which is no fault at all."""

PIECES = 20
TEXT = b"The bulletin is not ready yet. Please call the desk.\n"


def send(
    data: bytes,
    folder: Path,
    name: str,
    over_s: float = 0.0,
    fault: Fault | None = None,
    sleep: Callable[[float], None] = time.sleep,
) -> Path:
    """Write a file of some contents, a WAVE, over so many seconds; its path. sleep: instead of waiting, for tests."""
    if fault == "late":
        sleep(over_s)
    sent, path = _with_fault(data, fault), folder / name
    growing = folder / f".{name}.coming.part" if fault == "renamed" else path
    for _ in range(2 if fault == "twice" else 1):
        with growing.open("wb") as file:
            for first in range(0, len(sent), size := max(1, len(sent) // PIECES)):
                file.write(sent[first : first + size])
                file.flush()
                sleep(over_s / PIECES)
        if growing != path:
            growing.replace(path)
    return path


def _with_fault(data: bytes, fault: Fault | None) -> bytes:
    if fault == "cut":
        return data[: len(data) // 2]
    if fault == "text":
        return TEXT
    if fault == "silent":
        return _silenced(data)
    return data


def _silenced(data: bytes) -> bytes:
    """The same length of digital silence."""
    samples, rate_hz = soundfile.read(io.BytesIO(data), always_2d=True)
    made = io.BytesIO()
    soundfile.write(made, np.zeros_like(samples), rate_hz, format="WAV", subtype="PCM_24")
    return made.getvalue()
