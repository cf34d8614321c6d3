"""Several deliverables as programmes of one file."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from nicelevel.core.errors import SpecError
from nicelevel.core.programmes import Joined, PartError, join
from nicelevel.core.values import LOSSY
from nicelevel.store.deliverables import file_of
from nicelevel.store.models import Deliverable


@dataclass(frozen=True)
class Part:
    """A proved file and what its programme is called."""

    deliverable: Deliverable
    label: str


def can_be_joined(made: Deliverable) -> bool:
    """What was coded with loss is decoded before it could stand beside others, and would be another file."""
    return bool(made.measured) and made.measured["encoding"] not in LOSSY


def join_parts(parts: Sequence[Part], folder: Path, to: Path) -> Joined:
    """Write the files of some deliverables into one, in this order. folder: of all deliverables.

    Raises SpecError where they do not fit together, named by the file at fault.
    """
    if len(parts) < 2:
        raise SpecError("One file of several programmes needs two files at least.")
    try:
        return join([file_of(each.deliverable, folder) for each in parts], to, [each.label for each in parts])
    except PartError as error:
        raise SpecError(f"{parts[error.number].deliverable.file_name}: {error.error.message}") from error
