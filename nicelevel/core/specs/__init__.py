"""What destinations demand: one readable TOML file each, and the judging of a reading by it."""

from .judge import judge, level_findings
from .library import load_spec, shipped_specs
from .spec import Spec, parse_spec

__all__ = ["Spec", "judge", "level_findings", "load_spec", "parse_spec", "shipped_specs"]
