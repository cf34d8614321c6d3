"""What mends what was noted of a source: for each code of a note a step, where there is one."""

from collections.abc import Callable, Collection, Sequence

from nicelevel.core.steps import Recipe, Step
from nicelevel.core.steps.dc import Dc
from nicelevel.core.steps.delay import Delay
from nicelevel.core.steps.flip import Flip
from nicelevel.core.steps.keep import Keep
from nicelevel.core.steps.pauses import Pauses
from nicelevel.core.steps.tick import Tick
from nicelevel.core.values import Reading

DEAD_AIR_LEFT_S = 0.5


def _kept_side(reading: Reading) -> Step:
    return Keep(channels=(1 if reading.mono_kind == "left_only" else 2,))


_MENDS: dict[str, tuple[Callable[[Reading], Step], str]] = {
    "one_sided": (_kept_side, "Keep that side alone"),
    "inverted": (lambda _: Flip(channels=(2,)), "Turn it back"),
    "late_copy": (lambda _: Delay(channels=(2,), samples="auto"), "Line them up"),
    "tick_at_head": (lambda _: Tick(), "Mend it"),
    "dc": (lambda _: Dc(), "Take it away"),
    "dead_air_head": (lambda _: Pauses(where="head", keep_s=DEAD_AIR_LEFT_S), "Shorten it to half a second"),
    "dead_air_tail": (lambda _: Pauses(where="tail", keep_s=DEAD_AIR_LEFT_S), "Shorten it to half a second"),
}
"""In the order in which the steps are done: channels first, then what is added to the sound, then its length."""


def mended_codes() -> Collection[str]:
    """The codes of notes that a step can mend."""
    return _MENDS.keys()


def mend_words(code: str) -> str:
    """What is pressed to mend what a note with this code says; empty where no step does."""
    return _MENDS[code][1] if code in _MENDS else ""


def mending(reading: Reading, codes: Sequence[str] | None = None) -> Recipe:
    """The steps that mend what was noted. codes: of the notes that are to be mended; None for all."""
    noted = {note.code for note in reading.notes if codes is None or note.code in codes}
    return tuple(make(reading) for code, (make, _) in _MENDS.items() if code in noted)
