"""Read back what was written, measure it again, judge it, and only then give it its name."""

from dataclasses import replace
from pathlib import Path

from .digest import sha256_of
from .files import StagedFile
from .files.names import missed_name
from .measure import Progress, measure
from .specs import Spec, judge
from .values import Deliverable, Plan, Proof


def prove(path: Path, spec: Spec, progress: Progress | None = None) -> Proof:
    """The proof of a file as it lies on disk: decoded, measured, judged, with its digest."""
    reading = measure(path, progress)
    return Proof(reading, judge(reading, spec), sha256_of(path))


def prove_and_publish(
    staged: StagedFile,
    plan: Plan,
    spec: Spec,
    replace_existing: bool = False,
    progress: Progress | None = None,
) -> Deliverable:
    """Prove a staged file, then publish it: under its own name, or one that says that it misses its spec."""
    try:
        proof = prove(staged.path, spec, progress)
        name = staged.final.name if proof.verdict.meets else missed_name(staged.final.name)
        path = staged.publish(name, replace=replace_existing)
    finally:
        staged.discard()
    source = replace(proof.reading.source, path=path)
    return Deliverable(path, plan, replace(proof, reading=replace(proof.reading, source=source)))
