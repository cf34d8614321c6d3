"""The price of loudness: what level each depth of limiting reaches, and what it costs."""

from dataclasses import dataclass

from ..prepare import Measured
from ..specs import Spec
from ..values import OutputFormat
from .gain import gain_range
from .limit import HELD_BY_LIMITER, LIMITED_MEASURES, envelope_of, level_after, limiter_for

DEEPEST_DB, STEP_DB = 12.0, 1.0


@dataclass(frozen=True)
class Price:
    """A level that is reached, the deepest limiting that it takes, and the share of time that is limited."""

    level: float
    depth_db: float
    share_ratio: float


def prices(measured: Measured, spec: Spec, output: OutputFormat) -> tuple[Price, ...]:
    """Levels in the measure of the spec, from no limiting on; empty where a limiter can bring nothing to a target."""
    if spec.loudness is None or spec.loudness.measure not in LIMITED_MEASURES or measured.hops is None:
        return ()
    allowed = gain_range(measured, spec, output)
    if not HELD_BY_LIMITER & allowed.ceilings_db.keys():
        return ()
    limiter = limiter_for(spec, allowed.ceilings_db)
    envelope = envelope_of(measured, limiter)
    found = []
    for step in range(round(DEEPEST_DB / STEP_DB) + 1):
        gain_db = limiter.ceiling_db + step * STEP_DB - envelope.highest_db
        limited = envelope.limited(gain_db, limiter)
        level = level_after(spec.loudness.measure, measured, limited.left)
        found.append(Price(level, limited.depth_db, limited.share_ratio))
    return tuple(found)
