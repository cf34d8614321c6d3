"""Where a time of a source comes to lie in what is made of it, and back. In fractions of a second: exact."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

Time = Fraction | float


@dataclass(frozen=True)
class Span:
    """A stretch that is kept: from source_s on, for length_s (None: for ever), it lies at output_s."""

    source_s: Fraction
    output_s: Fraction
    length_s: Fraction | None = None

    def holds(self, into_s: Fraction) -> bool:
        return into_s >= 0 and (self.length_s is None or into_s < self.length_s)


@dataclass(frozen=True)
class Timeline:
    """The stretches of a source that are kept, in their order; nothing runs faster or slower."""

    spans: tuple[Span, ...] = (Span(Fraction(0), Fraction(0)),)

    def to_output(self, source_s: Time) -> Fraction | None:
        """Where a time of the source lies; None where it is taken out."""
        for span in self.spans:
            into_s = Fraction(source_s) - span.source_s
            if span.holds(into_s):
                return span.output_s + into_s
        return None

    def to_source(self, output_s: Time) -> Fraction | None:
        """What lies at a time of the output; None where something was put in."""
        for span in self.spans:
            into_s = Fraction(output_s) - span.output_s
            if span.holds(into_s):
                return span.source_s + into_s
        return None

    def to_outputs(self, source_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """Where ascending times of the source lie, for drawing; NaN where they are taken out."""
        found = np.full(len(source_s), np.nan)
        for span in self.spans:
            start_s, length_s = float(span.source_s), float(span.length_s or np.inf)
            first, last = np.searchsorted(source_s, [start_s, start_s + length_s])
            found[first:last] = source_s[first:last] - start_s + float(span.output_s)
        return found

    def places(self, places: Iterable[tuple[float, float]]) -> Iterator[tuple[float, float]]:
        """Where places of the source, from and to in seconds, lie; without those that begin in what is taken out."""
        for start_s, end_s in places:
            begin_s = self.to_output(start_s)
            if begin_s is not None:
                yield float(begin_s), float(begin_s) + end_s - start_s

    @property
    def origin_s(self) -> Fraction:
        """The time of the source at which the output begins, before 0 where something was put in front."""
        return self.spans[0].source_s - self.spans[0].output_s if self.spans else Fraction(0)

    def then(self, later: "Timeline") -> "Timeline":
        """This one and another after it, as one."""
        joined = (_common(mine, theirs) for mine in self.spans for theirs in later.spans)
        return Timeline(tuple(span for span in joined if span))


UNMOVED = Timeline()
"""Everything lies where it lay."""


def _common(one: Span, later: Span) -> Span | None:
    """What is kept by both, of one after the other."""
    begin_s = max(one.output_s, later.source_s)
    ends_s = [
        start_s + length_s
        for start_s, length_s in ((one.output_s, one.length_s), (later.source_s, later.length_s))
        if length_s is not None
    ]
    length_s = min(ends_s) - begin_s if ends_s else None
    if length_s is not None and length_s <= 0:
        return None
    return Span(one.source_s + begin_s - one.output_s, later.output_s + begin_s - later.source_s, length_s)
