"""What files are brought to: a spec, the level of an approved file, one gain for all of them."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click

from nicelevel.core.errors import NiceLevelError, UnsupportedError
from nicelevel.core.measure import measure
from nicelevel.core.plan.members import Leader
from nicelevel.core.plan.sets import Candidate, loudest, propose_sets
from nicelevel.core.plan.sum_check import check_sum
from nicelevel.core.prepare import Workshop
from nicelevel.core.process import Member, plans_of_file
from nicelevel.core.specs import Spec, load_spec
from nicelevel.core.specs.match import match_spec, matched
from nicelevel.core.steps import Recipe
from nicelevel.core.values import Reading

from .batch import in_order


def aim_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options that say what files are brought to."""
    command = click.option(
        "--common-gain",
        is_flag=True,
        help="One gain for all FILEs: of the loudest or, of stems, of their mix.",
    )(command)
    command = click.option(
        "--match",
        "approved",
        metavar="FILE",
        help="Bring the level to that of this FILE, by the spec's measure.",
    )(command)
    return click.option("--spec", "spec_name", help="A shipped spec's slug, or the path of a spec file.")(command)


def spec_of_aim(spec_name: str | None, approved: str | None) -> Spec:
    """The spec that the options say. Ends the command with status 2 where they say none, or a file has no level."""
    if approved is None:
        if spec_name is None:
            raise click.UsageError("Missing option '--spec' (or '--match').")
        return load_spec(spec_name)
    try:
        reading = measure(approved)
    except NiceLevelError as error:
        raise click.UsageError(f"--match: {approved}: {error.message}") from error
    title = Path(approved).stem
    if spec_name is None:
        return match_spec(reading, title, "integrated", "like")
    return matched(load_spec(spec_name), reading, title)


@dataclass(frozen=True)
class CommonGain:
    """How some files take one gain: from which of them, and whether the others are parts of it."""

    leader_path: str
    leader: Leader
    is_part: bool

    def member(self, path: str) -> Member | None:
        """How a file takes part; None for the leader itself."""
        return None if path == self.leader_path else Member(self.leader, self.is_part)


@contextmanager
def shared_gain(
    files: Sequence[str], spec: Spec, jobs: int, is_asked: bool = True, recipe: Recipe = ()
) -> Iterator[CommonGain | None]:
    """The common gain of some files, whose leader stays prepared for the block; None where it is not asked for, or
    fewer than two can be used.

    Stems that add up to one of the files, which their names say too, take its gain and its limiter's curve, so that
    the sum holds; anything else takes the gain of the loudest, each with a limiter of its own.
    """
    readings: dict[str, Reading] = {}
    if is_asked:
        readings = dict(each for each in in_order(files, jobs, _read) if each)
    if len(readings) < 2:
        yield None
        return
    mix = _mix_of(list(readings), readings)
    path = mix or loudest(readings)
    with Workshop(Path(path), with_hops=True, recipe=(*recipe, *spec.steps)) as workshop:
        leader = Leader(workshop.source(), workshop.measured, plans_of_file(workshop, spec), Path(path).stem)
        yield CommonGain(path, leader, mix is not None)


def _read(path: str) -> tuple[str, Reading] | None:
    try:
        return path, measure(path)
    except NiceLevelError:
        return None  # its own work says what is wrong


def _mix_of(paths: list[str], readings: dict[str, Reading]) -> str | None:
    """The one of some files that all others are stems of, by their names and their sum."""
    proposed = propose_sets([Candidate(path, Path(path).stem, readings[path].source) for path in paths])
    if len(proposed) != 1 or len(proposed[0].members) != len(paths) - 1:
        return None
    mix = str(proposed[0].leader)
    try:
        adds_up = check_sum(Path(mix), [Path(str(each)) for each in proposed[0].members]).adds_up
    except UnsupportedError:
        return None
    return mix if adds_up else None
