"""The whole way through, read top to bottom: where a reader begins.

take in → prepare and measure → plan → render → prove. (Judging is part of planning and of proving; handing over is a
matter of packages and comes after.)
"""

from dataclasses import dataclass
from pathlib import Path

from .errors import CannotMeetError, OutputExistsError
from .files.names import deliverable_path
from .files.staged import speaking_errors
from .plan import plans
from .plan.formats import outputs_beside
from .plan.members import Leader, part_plans, track_plans
from .plan.per_channel import limited_of_plan
from .plan.sets import judged_by
from .prepare import MeasuredOf, Workshop
from .produce import Order, Planned, produce
from .progress import Progress, share_of
from .specs import Spec
from .steps import Chain, Found, FoundOf, Recipe, Step, listen, resolve
from .steps.chain import with_recipe
from .values import LOSSY, Deliverable, Plan, Source

MOST_KEPT_BYTES = 216_000_000
"""Of signals that were resampled or folded down and are still to be written: ten minutes of 44.1 kHz in stereo."""


@dataclass(frozen=True)
class Member:
    """How a file takes part in a set: with the gain of its leader and, as part of a sum, with its curve.

    The leader's prepared signals must stay while members are worked on.
    """

    leader: Leader
    is_part: bool

    @property
    def of_leader(self) -> MeasuredOf | None:
        return self.leader.measured_of if self.is_part else None

    def found_of(self, path: Path) -> FoundOf:
        """What the steps of a file find: parts of a sum take what was found in the whole, or they stop adding up."""
        own, found = listen(path), self.leader.found

        def find(chain: Chain, step: Step) -> Found:
            number = len(chain.done)
            is_shared = self.is_part and number < len(found) and found[number] is not None and not step.adds_up
            return found[number] if is_shared else own(chain, step)  # type: ignore[return-value]

        return find

    def plans(self, workshop: Workshop, spec: Spec) -> tuple[Plan, ...]:
        made = part_plans if self.is_part else track_plans
        return made(workshop.source(), workshop.measured, spec, self.leader)


def process(
    path: Path,
    spec: Spec,
    folder: Path,
    replace: bool = False,
    progress: Progress | None = None,
    member: Member | None = None,
    leads: bool = False,
) -> list[Deliverable]:
    """Bring one file to one destination: a proved deliverable for each format that the spec asks for.

    member: where it takes its gain from the leader of a set; leads: whether others take its own. Raises
    CannotMeetError where a plan cannot meet the spec, before anything is written, and UnsupportedError where no
    format can be made from this source.
    """
    with workshop_for(path, spec, progress=progress, member=member) as workshop:
        return bring(workshop, spec, folder, replace, progress, member, leads)


def workshop_for(
    path: Path, spec: Spec, recipe: Recipe = (), progress: Progress | None = None, member: Member | None = None
) -> Workshop:
    """Where a file is prepared for a spec: by a recipe, and then by the spec's own steps."""
    most_kept_bytes = 0 if all(wanted.encoding in LOSSY for wanted in spec.formats) else MOST_KEPT_BYTES
    with_hops, preparing = spec.method.allow == "limiter", share_of(progress, 0.0, 0.3)
    found_of = member.found_of(path) if member else None
    return Workshop(path, with_hops, preparing, most_kept_bytes, (*recipe, *spec.steps), found_of)


def bring(
    workshop: Workshop,
    spec: Spec,
    folder: Path,
    replace: bool = False,
    progress: Progress | None = None,
    member: Member | None = None,
    leads: bool = False,
) -> list[Deliverable]:
    """The same for a file that is in its workshop."""
    chosen = plans_of_file(workshop, spec, member)
    for plan in chosen:
        refuse(plan)
    source, path = workshop.source(), workshop.path
    beside = outputs_beside(source, spec)
    targets = [folder / deliverable_path(path.stem, spec, plan.output, beside) for plan in chosen]
    for target in targets:
        refuse_existing(target, replace)

    def planned(plan: Plan) -> Planned:
        return plan, limited_of_plan(plan, workshop.measured, member.of_leader if member else None)

    def replan(tighter: Spec) -> Planned:
        return planned(plans(source, workshop.measured, tighter)[0])

    made: dict[int, Deliverable] = {}
    for number in sorted(range(len(chosen)), key=lambda at: chosen[at].output.is_lossy):
        plan, target = chosen[number], targets[number]
        if plan.output.is_lossy:
            # An encoder takes so long that the signal is made again meanwhile, and needs memory itself.
            workshop.let_go()
        part = share_of(progress, 0.3 + 0.7 * len(made) / len(chosen), 0.7 / len(chosen))
        with speaking_errors(target):
            target.parent.mkdir(parents=True, exist_ok=True)
        again = replan if plan.output.is_lossy and member is None else None
        kept = workshop.measured(plan.chain.recipe).kept
        judging = judged_by(spec, plan, member is not None)
        order = Order(path, source, spec, judging, planned(plan), workshop.measured, again, kept, leads)
        made[number] = produce(order, target, replace, part)
    return [made[number] for number in range(len(chosen))]


def plans_of_file(workshop: Workshop, spec: Spec, member: Member | None = None) -> tuple[Plan, ...]:
    """The plans of one file, by itself or as a member of a set."""
    return plans(workshop.source(), workshop.measured, spec) if member is None else member.plans(workshop, spec)


def refuse(plan: Plan) -> None:
    """Raises CannotMeetError, with the plan's reasons, where it cannot meet its spec."""
    if plan.action == "cannot_meet":
        raise CannotMeetError(" ".join(plan.reasons))


def refuse_existing(target: Path, replace: bool) -> None:
    """Raises OutputExistsError before any work where a name is taken; publishing checks once more."""
    if target.exists() and not replace:
        raise OutputExistsError(f"{target.name} is already there; nothing was written over it.")


def targets_of(source: Source, spec: Spec, folder: Path, recipe: Recipe = ()) -> list[Path]:
    """Every output that a source could get at a destination, known from its header alone: no step that must listen
    changes what its files are called. Raises as the recipe's steps do.
    """
    steps = [step for step in (*recipe, *spec.steps) if not step.listens]
    source = with_recipe(source, resolve(source.shape, steps))
    beside = outputs_beside(source, spec)
    return [folder / deliverable_path(source.path.stem, spec, output, beside) for output in beside]
