"""Read back what was written, measure it again, judge it."""

from pathlib import Path

from .ahead import beside
from .digest import sha256_of
from .measure import measure
from .progress import Progress
from .specs import Spec, judge
from .values import Proof


def prove(path: Path, spec: Spec, progress: Progress | None = None) -> Proof:
    """The proof of a file as it lies on disk: decoded, measured, judged, with its digest."""
    with beside(lambda: sha256_of(path)) as digest:
        reading = measure(path, progress)
        return Proof(reading, judge(reading, spec), digest.result())
