"""Read back what was written, measure it again, judge it."""

from dataclasses import replace
from pathlib import Path

from .ahead import beside
from .digest import sha256_of
from .files import take_in
from .measure import measure
from .progress import Progress
from .specs import Spec, judge
from .speech import dialogue_of
from .values import Proof, Reading


def measured_for(path: Path, spec: Spec, progress: Progress | None = None) -> Reading:
    """The reading of a file with all that a spec asks about: where its level is that of speech, that is listened for.

    Raises as `measure`.
    """
    reading = measure(path, progress)
    if spec.loudness is None or spec.loudness.measure != "dialogue":
        return reading
    with take_in(path) as audio:
        return replace(reading, dialogue_lufs=dialogue_of(audio).lufs)


def prove(path: Path, spec: Spec, progress: Progress | None = None) -> Proof:
    """The proof of a file as it lies on disk: decoded, measured, judged, with its digest."""
    with beside(lambda: sha256_of(path)) as digest:
        reading = measured_for(path, spec, progress)
        return Proof(reading, judge(reading, spec), digest.result())
