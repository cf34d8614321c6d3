"""Measure a signal without a file: the meter fed directly."""

import itertools
from pathlib import Path

from nicelevel.core.channels import Layout, layout_from_count
from nicelevel.core.measure.meter import Meter
from nicelevel.core.plan import plan, plans
from nicelevel.core.prepare import Measured
from nicelevel.core.specs import Spec
from nicelevel.core.steps import Chain
from nicelevel.core.values import Plan, Reading, Source
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


def as_it_is(reading: Reading) -> Measured:
    """A source that nothing is done to before it is levelled, without hops."""
    return Measured(reading, Chain(reading.source.shape))


def planned(reading: Reading, spec: Spec) -> Plan:
    """The plan of a source that needs no preparation, without hops: by gain alone."""
    return plan(reading.source, lambda _: as_it_is(reading), spec)


def all_planned(reading: Reading, spec: Spec) -> tuple[Plan, ...]:
    """Its plan for every format."""
    return plans(reading.source, lambda _: as_it_is(reading), spec)
