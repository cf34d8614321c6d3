"""The fields of the Spec screen and the tables of a spec: one for the other."""

import math
from collections.abc import Callable, Mapping
from typing import Any

from nicelevel.core.errors import SpecError
from nicelevel.core.specs import Spec
from nicelevel.core.specs.contradictions import MB
from nicelevel.core.specs.write import spec_of_tables, tables_of, tables_to_toml
from nicelevel.core.toml import parse_toml

MINUS = "−"
MOST_MB = 1e12


def _number(text: str) -> float | str:
    """A number as people write one (−21,7; 48k), else the text as it is: the spec says what is wrong with it."""
    plain = text.replace(MINUS, "-").replace(",", ".").strip()
    thousand = plain[-1:] in ("k", "K")
    try:
        number = float(plain[:-1] if thousand else plain)
    except ValueError:
        return text
    # 44.1 × 1000 is not 44100 to the last digit.
    return round(number * 1000, 6) if thousand else number


def _whole_or_word(text: str) -> int | str:
    number = _number(text)
    return int(number) if isinstance(number, float) and number.is_integer() else text


def _numbers(text: str) -> list[float | str]:
    return [_number(part) for part in text.replace(";", " ").replace(",", " ").split()]


def _bytes(text: str) -> int | str:
    number = _number(text)
    if not isinstance(number, float) or not math.isfinite(number) or abs(number) >= MOST_MB:
        return text
    return round(number * MB)


def _yes_or_word(text: str) -> bool | str:
    return {"true": True, "false": False}.get(text.lower(), text)


def _text(text: str) -> str:
    return text


_KINDS: dict[str, Callable[[str], Any]] = {
    "spec.name": _text,
    "spec.source": _text,
    "loudness.measure": _text,
    "limits.durations_s": _numbers,
    "limits.max_size_bytes": _bytes,
    "method.allow": _text,
    "method.look_ahead_ms": _whole_or_word,
    "channels.mono_law": _text,
    "channels.matrixed": _yes_or_word,
    "output.pick": _text,
    "output.name": _text,
    "output.metadata": _text,
    "formats.container": _text,
    "formats.encoding": _text,
    "formats.sample_rate": _whole_or_word,
    "formats.channels": _text,
    "formats.files": _text,
    "formats.dither": _text,
    "formats.bitrate_mode": _text,
    "formats.dialnorm": _whole_or_word,
}
"""What is not a number with a fraction, by its key."""


def spec_of_fields(fields: Mapping[str, str], slug: str) -> Spec:
    """The spec that some fields say. An empty field is a key left out. Raises SpecError naming key and reason."""
    tables: dict[str, Any] = {}
    formats: dict[int, dict[str, Any]] = {}
    if fields.get("steps", "").strip():
        tables["steps"] = _steps(fields["steps"], slug)
    for key, text in fields.items():
        table, _, rest = key.partition(".")
        if not rest or not text.strip():
            continue
        if table == "formats":
            number, _, name = rest.partition(".")
            if not (number.isdecimal() and len(number) < 4 and name):
                raise SpecError(f"{slug}: {key}: no such key")
            formats.setdefault(int(number), {})[name] = _KINDS.get(f"formats.{name}", _number)(text.strip())
        else:
            value = _KINDS.get(key, _number)(text.strip())
            tables.setdefault(table, {})[rest] = value
    if "target" not in tables.get("loudness", {}):
        tables.pop("loudness", None)
    tables["formats"] = [formats[number] for number in sorted(formats)]
    return spec_of_tables(tables, slug)


def fields_of_spec(spec: Spec) -> dict[str, str]:
    """What the fields of a spec hold, by key."""
    fields: dict[str, str] = {}
    for table, keys in tables_of(spec).items():
        if table == "steps":
            fields["steps"] = tables_to_toml({"steps": keys})
            continue
        rows = enumerate(keys) if table == "formats" else [(None, keys)]
        for number, row in rows:
            prefix = table if number is None else f"{table}.{number}"
            fields |= {f"{prefix}.{key}": _shown(f"{table}.{key}", value) for key, value in row.items()}
    return fields


def _steps(text: str, slug: str) -> Any:
    """The steps of a spec, typed as they stand in its file."""
    tables = parse_toml(text, slug)
    if tables.keys() - {"steps"}:
        raise SpecError(
            f"{slug}: steps: only [[steps]] can stand here, and there is {', '.join(sorted(tables))}", "steps"
        )
    return tables.get("steps", [])


def _shown(key: str, value: Any) -> str:
    if key == "limits.max_size_bytes":
        return f"{value / MB:g}"
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, (list, tuple)):
        return ", ".join(f"{each:g}" for each in value)
    return f"{value:g}".replace("-", MINUS) if isinstance(value, float) else str(value)
