"""A spec with another target: of one source, instead of the spec's own."""

from ..errors import SpecError
from .spec import Spec
from .write import spec_of_tables, tables_of


def with_target(spec: Spec, target: float | None) -> Spec:
    """A spec with another target, for any number of channels. Raises SpecError where it makes no sense."""
    if target is None:
        return spec
    if spec.loudness is None:
        raise SpecError(f"{spec.spec.name} leaves the level as it is, so no source has a target there.")
    tables = tables_of(spec)
    tables["loudness"] = {**tables["loudness"], "target": target}
    tables["loudness"].pop("mono_target", None)
    return spec_of_tables(tables, spec.slug)
