"""A spec that brings other programmes to the reading of an approved one."""

from ..errors import SpecError
from ..values import Reading
from .judge import MEASURES
from .spec import MEASURE_UNITS, Loudness, Spec
from .write import spec_of_tables

TOLERANCE = 0.3
CEILING_DBTP = -1.0
"""A ceiling for what is brought up to it; one that is over this itself brings its own."""


def matched(spec: Spec, reading: Reading, title: str) -> Spec:
    """A spec whose target is the level of a reading in its own measure; integrated loudness where it names none.

    Raises SpecError where the programme has no such level.
    """
    measure = spec.loudness.measure if spec.loudness else "integrated"
    tolerance = spec.loudness.tolerance if spec.loudness else TOLERANCE
    loudness = Loudness(measure=measure, target=_level(reading, title, measure), tolerance=tolerance)
    return spec.model_copy(update={"loudness": loudness})


def match_spec(reading: Reading, title: str, measure: str, slug: str, may_limit: bool = False) -> Spec:
    """The spec that asks for the level of a reading in one measure, and for nothing else of it.

    may_limit: whether peaks that are in the way of it may be limited. Only the level is matched: tone, dynamics and
    noise stay what they are. Raises SpecError where the measure is unknown or the programme has no such level.
    """
    if measure not in MEASURES:
        raise SpecError(f"{measure}: no such measure; there are {', '.join(MEASURES)}")
    level = _level(reading, title, measure)
    return spec_of_tables(
        {
            "spec": {"name": f"Like {title}"[:80], "source": "house rule"},
            "loudness": {"measure": measure, "target": level, "tolerance": TOLERANCE},
            "limits": {"max_true_peak_dbtp": max(CEILING_DBTP, min(20.0, round(reading.true_peak_dbtp, 1)))},
            "method": {"allow": "limiter" if may_limit else "gain"},
            "formats": [{"container": "wav", "encoding": "pcm_24"}],
        },
        slug,
    )


def _level(reading: Reading, title: str, measure: str) -> float:
    level = round(MEASURES[measure](reading), 1)
    if not -100.0 <= level <= 0.0:
        raise SpecError(f"{title} has no level in {MEASURE_UNITS[measure]} that others could be brought to.")
    return level
