"""The proof sheet: all that is handed over with a file about it, in words and drawings, from what was kept of it."""

import csv
import io
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from nicelevel.core.measure.gating import MOMENTARY_HOPS, SHORT_TERM_HOPS, series_lufs
from nicelevel.core.specs.rules import rule_of
from nicelevel.core.specs.spec import MEASURE_UNITS, Spec
from nicelevel.core.values import Reading

from .curve import Tick, clock
from .vial import KEY_OF_MEASURE, Seal, Vial, place
from .words import change, figure, length, level

MOST_POINTS = 480
FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r")
"""What a spreadsheet may take for the beginning of a formula."""

WIDTH, HEIGHT, LEFT, RIGHT, TOP, BOTTOM = 682, 190, 34, 6, 8, 24
SHOWN_LU, GRID_LU = 30, 6
LABEL_ROOM = 18
_TICKS_S = (1, 2, 5, 10, 15, 30, 60, 120, 240, 300, 600, 1200, 1800, 3600)


@dataclass(frozen=True)
class Written:
    """What was kept of a deliverable: JSON of plan, reading and findings, and where it came from.

    spec_path: where the package has its spec as TOML.
    """

    title: str
    source_name: str
    file_name: str
    job: str
    sha256: str
    size_bytes: int
    proved_at: datetime
    plan: dict[str, Any]
    measured: dict[str, Any]
    findings: list[dict[str, Any]]
    source: Reading
    spec: Spec
    version: int
    spec_path: str


@dataclass(frozen=True)
class RuleRow:
    rule: str
    required: str
    predicted: str
    proved: str
    meets: bool
    source: str


@dataclass(frozen=True)
class CurveDrawing:
    """Loudness over time in pixels: a path, the band of the target, both axes."""

    path: str
    band_y: float | None
    band_height: float
    levels: tuple[Tick, ...]
    times: tuple[Tick, ...]


@dataclass(frozen=True)
class ProofSheet:
    made: Written
    meets: bool
    headline: str
    how: str
    rows: tuple[RuleRow, ...]
    vial: Vial
    curve: CurveDrawing
    file_facts: tuple[tuple[str, str], ...]
    sha256_lines: tuple[str, ...]
    way_facts: tuple[tuple[str, str], ...]
    command: str


def proof_sheet(made: Written) -> ProofSheet:
    """The sheet of one written file."""
    rows = tuple(_row(finding, made) for finding in made.findings)
    missed = sum(not row.meets for row in rows)
    return ProofSheet(
        made=made,
        meets=missed == 0,
        headline=_headline(len(rows), missed),
        how=_how(made.plan),
        rows=rows,
        vial=_vial(made, missed == 0),
        curve=_curve(made),
        file_facts=_file_facts(made),
        sha256_lines=tuple(_sha256_lines(made.sha256)),
        way_facts=_way_facts(made),
        command=_command(made),
    )


def _command(made: Written) -> str:
    """What anybody may run in the unpacked package."""
    return f"nice-level check FILE --spec {made.spec_path}"


_NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")


def _number(count: int) -> str:
    return _NUMBERS[count] if count < len(_NUMBERS) else str(count)


def _headline(rules: int, missed: int) -> str:
    if missed:
        return f"Misses {_number(missed)} of {_number(rules)} rules"
    return f"Meets all {_number(rules)} rules" if rules > 1 else "Meets its rule"


def _how(plan: dict[str, Any]) -> str:
    gain = "Left as it is" if plan["action"] == "as_is" else f"By a gain of {change(plan['gain_db'])} dB"
    limited = f"limited by up to {figure(plan['limiting_db'])} dB" if plan["limiting_db"] else "nothing limited"
    return f"{gain}, {limited}. Measured on the written file."


def _row(finding: dict[str, Any], made: Written) -> RuleRow:
    rule = finding["rule"]
    predicted = made.plan["predicted"].get(rule_of(rule).figure)
    return RuleRow(
        rule=rule_of(rule).title,
        required=_required(finding),
        predicted=_stated(rule, predicted),
        proved=_stated(rule, finding["found"]),
        meets=finding["meets"],
        source=rule_of(rule).measured_by,
    )


def _required(finding: dict[str, Any]) -> str:
    """What a rule asks for, in words."""
    rule, required = finding["rule"], finding["required"]
    if rule in MEASURE_UNITS:
        low, high = required
        return f"{figure((low + high) / 2)} ±{figure((high - low) / 2)} {rule_of(rule).unit}"
    if isinstance(required, list):
        return " or ".join(str(each) if isinstance(each, str) else f"{each:g}" for each in required)
    sign = "≥" if rule.startswith("min_") else "≤"
    amount = f"{required:,}" if isinstance(required, int) else figure(required)
    return f"{sign} {amount} {rule_of(rule).unit}".strip()


def _stated(rule: str, value: Any) -> str:
    """A figure as it is stated on the sheet: levels to a hundredth, lengths to a millisecond."""
    if value is None:
        return ""
    if isinstance(value, str):
        return value
    if rule in ("min_duration_s", "max_duration_s", "durations_s"):
        return f"{value:.3f}"
    if rule == "max_size_bytes":
        return f"{value:,.0f}"
    if rule == "min_bitrate_kbps":
        return f"{value:.0f}"
    return level(value, decimals=2)


def _vial(made: Written, meets: bool) -> Vial:
    loudness = made.spec.loudness
    seal: Seal = "proved" if meets else "missed"
    if loudness is None:
        return Vial(made.plan["action"], None, 75.0, False, seal)
    key = KEY_OF_MEASURE[loudness.measure]
    target = loudness.target_for(made.measured["channels"])
    found, was = made.measured[key], getattr(made.source, key)
    landing = place(-math.inf if found is None else found - target, loudness.tolerance)
    source_x = place(was - target, loudness.tolerance) if math.isfinite(was) else None
    return Vial(made.plan["action"], source_x, landing, True, seal)


def course_json(reading: Reading) -> list[float | None]:
    """Loudness of a file over time for its sheet: the loudest of each of a few hundred stretches."""
    hops = SHORT_TERM_HOPS if reading.source.duration_s >= 6.0 else MOMENTARY_HOPS
    series = series_lufs(reading.curves.energies, hops)
    step = max(1, -(-len(series) // MOST_POINTS))
    parts = (series[at : at + step] for at in range(0, len(series), step))
    loudest = (part[np.isfinite(part)] for part in parts)
    return [round(float(part.max()), 2) if len(part) else None for part in loudest]


def _curve(made: Written) -> CurveDrawing:
    course, duration_s = made.measured.get("course") or [], made.measured["duration_s"]
    known = [value for value in course if value is not None]
    loudness = made.spec.loudness
    shows_band = loudness is not None and loudness.measure in ("integrated", "max_short_term")
    target = loudness.target_for(made.measured["channels"]) if loudness else -23.0
    highest = max([*known, target if shows_band else -60.0], default=-18.0)
    top = math.ceil((highest + 2.0) / GRID_LU) * GRID_LU

    def x(share: float) -> float:
        return round(LEFT + (WIDTH - LEFT - RIGHT) * share, 1)

    def y(lufs: float) -> float:
        return round(TOP + min(SHOWN_LU, top - lufs) * (HEIGHT - TOP - BOTTOM) / SHOWN_LU, 1)

    path, pen_up = "", True
    for at, value in enumerate(course):
        if value is not None:
            path += f"{'M' if pen_up else 'L'}{x((at + 0.5) / len(course))} {y(value)}"
        pen_up = value is None
    tolerance = loudness.tolerance if loudness else 0.0
    upper, lower = y(target + tolerance), y(target - tolerance)
    step = next((each for each in _TICKS_S if duration_s / each <= 9), _TICKS_S[-1])
    return CurveDrawing(
        path,
        upper if shows_band else None,
        max(1.5, lower - upper),
        tuple(Tick(y(value), level(value, decimals=0)) for value in range(top - GRID_LU, top - SHOWN_LU, -GRID_LU)),
        tuple(
            Tick(x(second / duration_s), clock(second))
            for second in range(0, math.floor(duration_s) + 1, step)
            if x(second / duration_s) <= WIDTH - LABEL_ROOM
        ),
    )


def _sha256_lines(digest: str) -> list[str]:
    """The digest in groups of four, six to a line."""
    groups = [digest[at : at + 4] for at in range(0, len(digest), 4)]
    return [" ".join(groups[at : at + 6]) for at in range(0, len(groups), 6)]


def _steps_in_words(prepared: Sequence[str]) -> str:
    """What was done first, as sentences; of earlier versions of ours as words."""
    are_sentences = all(each.endswith(".") for each in prepared)
    return (" " if are_sentences else ", ").join(prepared) or "nothing done before"


def _file_facts(made: Written) -> tuple[tuple[str, str], ...]:
    return (
        ("Name", made.file_name),
        ("Size", f"{made.size_bytes:,} bytes"),
        ("Length", f"{length(made.measured['duration_s'])} · {made.measured['frames']:,} frames"),
        ("Decoded and read", f"{made.proved_at:%-d %b %Y, %H:%M} UTC".replace(" ", "\u00a0")),
    )


def _way_facts(made: Written) -> tuple[tuple[str, str], ...]:
    was, now, rounds = made.source, made.measured, made.plan.get("rounds", 1)
    carried = made.plan.get("metadata", {}).get("kept", [])
    resampled = f"resampled to {now['sample_rate']} Hz" if was.source.sample_rate_hz != now["sample_rate"] else ""
    # Of what was written before the steps were kept, the rate is what can be told.
    prepared = made.plan.get("prepared", [resampled] if resampled else [])
    facts = [
        ("Source", made.source_name),
        ("Source reading", f"{level(was.integrated_lufs)} LUFS · {level(was.true_peak_dbtp, signed=True)} dBTP"),
        ("Prepared", _steps_in_words(prepared)),
        ("Dither", {"none": "none needed", "tpdf": "TPDF", "shaped": "noise-shaped"}[made.plan["format"]["dither"]]),
        ("Metadata", ", ".join(carried) or "none"),
    ]
    if rounds > 1:
        facts.append(("Encoded", f"{_number(rounds)} times, until it fitted"))
    return tuple(facts)


def _as_text(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula: one that begins like it gets an apostrophe, but no figure."""
    is_figure = re.fullmatch(r"[-+]?[0-9][0-9.]*", cell) is not None
    return f"'{cell}" if cell.startswith(FORMULA_SIGNS) and not is_figure else cell


_FIGURES = (
    "integrated_lufs",
    "loudness_range_lu",
    "max_momentary_lufs",
    "max_short_term_lufs",
    "true_peak_dbtp",
    "sample_peak_dbfs",
    "rms_dbfs",
    "duration_s",
    "frames",
    "sample_rate",
    "channels",
    "bits_declared",
    "bitrate_kbps",
    "size_bytes",
)
"""What is in the list of files, by the keys of a reading's JSON; the unit is in the name."""


def sheets_csv(sheets: Sequence[ProofSheet]) -> str:
    """Every file in a line, its figures plain numbers with the unit in the head: for spreadsheets and programs."""
    head = ("file", "sha256", "spec", "spec_version", "meets", "gain_db", "limiting_db", "container", "encoding")
    rows = [
        (
            made.file_name,
            made.sha256,
            made.spec.slug,
            made.version,
            "yes" if sheet.meets else "no",
            *(_plain(made.plan.get(key)) for key in ("gain_db", "limiting_db")),
            made.measured.get("container"),
            made.measured.get("encoding"),
            *(_plain(made.measured.get(key)) for key in _FIGURES),
        )
        for sheet in sheets
        for made in (sheet.made,)
    ]
    return _csv((*head, *_FIGURES), rows)


def rules_csv(sheets: Sequence[ProofSheet]) -> str:
    """Every rule of every file in a line; what is required has a lowest and a highest, or is one of some."""
    rows = [
        (
            sheet.made.file_name,
            finding["rule"],
            rule_of(finding["rule"]).unit,
            *_bounds(finding),
            _plain(sheet.made.plan["predicted"].get(rule_of(finding["rule"]).figure)),
            _plain(finding["found"]),
            "yes" if finding["meets"] else "no",
        )
        for sheet in sheets
        for finding in sheet.made.findings
    ]
    return _csv(("file", "rule", "unit", "lowest", "highest", "one_of", "predicted", "proved", "meets"), rows)


def _bounds(finding: dict[str, Any]) -> tuple[str, str, str]:
    """Lowest, highest and one of what a rule requires."""
    rule, required = finding["rule"], finding["required"]
    if rule in MEASURE_UNITS:
        return _plain(required[0]), _plain(required[1]), ""
    if isinstance(required, list):
        return "", "", "; ".join(_plain(each) for each in required)
    return (_plain(required), "", "") if rule.startswith("min_") else ("", _plain(required), "")


def _plain(value: Any) -> str:
    """A number as programs read it; a level that is not there is empty."""
    if isinstance(value, float):
        return f"{value:.3f}".rstrip("0").rstrip(".") if math.isfinite(value) else ""
    return "" if value is None else str(value)


def _csv(head: Sequence[str], rows: Sequence[Sequence[Any]]) -> str:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(head)
    writer.writerows([_as_text(_plain(cell)) for cell in row] for row in rows)
    return text.getvalue()
