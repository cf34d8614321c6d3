"""Measure a signal without a file: the meter fed directly."""

import itertools
from pathlib import Path

from nicelevel.core.channels import Layout, layout_from_count
from nicelevel.core.measure.meter import Meter
from nicelevel.core.values import Reading, Source
from tests.signals import Signal


def source_of(signal: Signal, rate: int, layout: Layout | None, encoding: str = "float_64") -> Source:
    bits = int(encoding.rpartition("_")[2]) if encoding.startswith("pcm") else None
    return Source(
        path=Path("signal.wav"),
        size_bytes=44 + signal.size * 8,
        container="wav",
        encoding=encoding,
        sample_rate_hz=rate,
        layout=layout or layout_from_count(signal.shape[1]),
        frames=len(signal),
        bits_declared=bits,
    )


def meter_signal(
    signal: Signal,
    rate: int = 48_000,
    layout: Layout | None = None,
    encoding: str = "float_64",
    sizes: list[int] | None = None,
) -> Reading:
    """Reading of frames × channels, fed whole or in blocks of the given sizes, repeated."""
    meter = Meter(source_of(signal, rate, layout, encoding))
    done = 0
    for size in itertools.cycle(sizes or [len(signal)]):
        meter.feed(signal[done : done + size])
        done += size
        if done >= len(signal):
            return meter.reading()
    raise AssertionError("no sizes")
