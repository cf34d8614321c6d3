"""A recipe drawn at once: what each step does, guessed from every 10 ms where nobody has listened yet."""

from collections.abc import Sequence
from dataclasses import dataclass

from ..errors import NiceLevelError, NotPreparedError
from ..signals import Timeline
from ..steps import Chain, Found, FoundOf, Step
from ..steps.chain import Done
from ..steps.hops import Hops
from ..values import Shape


@dataclass(frozen=True)
class Sketched:
    """One step in its place.

    done: None where it cannot be done, `problem` says why; is_exact: whether what it found was heard, not guessed,
    also by all before it; before, after: where what comes to it, and what it makes, lay in the source;
    came, hops: of what comes to it, and of what it makes.
    """

    step: Step
    done: Done | None
    problem: str
    is_exact: bool
    before: Timeline
    after: Timeline
    shape: Shape
    came: Hops
    hops: Hops


def sketch(shape: Shape, hops: Hops, steps: Sequence[Step], found_of: FoundOf) -> list[Sketched]:
    """Each step after the other; what cannot be done is passed over.

    found_of: raises NotPreparedError where nobody has listened yet.
    """
    chain, is_exact, made = Chain(shape), True, []
    for step in steps:
        before, came = chain.timeline, hops
        try:
            found, was_heard = _found(chain, step, hops, found_of if is_exact else None)
            chain = chain.then(step, found)
        except NiceLevelError as error:
            made.append(Sketched(step, None, error.message, is_exact, before, before, chain.shape, came, hops))
            continue
        is_exact = is_exact and was_heard
        for stage in chain.done[-1].stages:
            hops = hops.after(stage)
        made.append(Sketched(step, chain.done[-1], "", is_exact, before, chain.timeline, chain.shape, came, hops))
    return made


def _found(chain: Chain, step: Step, hops: Hops, found_of: FoundOf | None) -> tuple[Found | None, bool]:
    """What a step finds, and whether it was heard."""
    if not step.listens:
        return None, True
    if found_of:
        try:
            return found_of(chain, step), True
        except NotPreparedError:
            pass
    return step.guess(hops), False
