"""A spec as the TOML that it is read from."""

from typing import Any

import tomli_w

from ..steps.table import steps_to_tables
from .spec import Spec, parse_spec


def spec_to_toml(spec: Spec) -> str:
    """The text of a spec: every table in the order of the contract, what is left at its default left out."""
    return tables_to_toml(tables_of(spec))


def tables_of(spec: Spec) -> dict[str, Any]:
    """A spec as the tables of its file."""
    tables = spec.model_dump(exclude={"slug", "steps"}, exclude_none=True, exclude_defaults=True)
    if spec.steps:
        tables["steps"] = steps_to_tables(spec.steps)
    tables.setdefault("spec", {})["name"] = spec.spec.name
    return {name: tables[name] for name in type(spec).model_fields if tables.get(name)}


def tables_to_toml(tables: dict[str, Any]) -> str:
    """Tables as text; levels that are whole numbers are written with their decimal."""
    return tomli_w.dumps(tables)


def spec_of_tables(tables: dict[str, Any], slug: str) -> Spec:
    """The spec of some tables. Raises SpecError naming key and reason, as of a file."""
    return parse_spec(tables_to_toml(tables), slug)
