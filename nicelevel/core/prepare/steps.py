"""Which steps stand between a source and the signal that is levelled for a destination."""

from typing import TYPE_CHECKING

from ..values import OutputFormat, Preparation, Source
from .fold_down import fold_matrix

if TYPE_CHECKING:
    from ..specs.spec import Channels


UNTOUCHED = Preparation()


def preparation_for(source: Source, output: OutputFormat, coefficients: "Channels") -> Preparation:
    """What is to be done to a source before it is levelled for an output.

    Raises UnsupportedError where its channels cannot become the output's.
    """
    rate_hz = output.sample_rate_hz if output.sample_rate_hz != source.sample_rate_hz else None
    if output.layout.positions == source.layout.positions:
        return Preparation(sample_rate_hz=rate_hz)
    matrix = fold_matrix(source.layout, output.layout, coefficients)
    return Preparation(tuple(map(tuple, matrix.tolist())), output.layout, rate_hz)
