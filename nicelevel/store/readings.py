"""Readings, by the digest of what was measured."""

import math
from collections.abc import Iterable
from dataclasses import fields, replace
from typing import Any

from peewee import fn

from nicelevel.core.channels import Layout
from nicelevel.core.errors import LostError
from nicelevel.core.measure import METER_VERSION
from nicelevel.core.values import Note, Shape, Source
from nicelevel.core.values import Reading as Measured

from .audio import MEASURED_LOST, AudioFolder
from .database import database, one_of
from .models import Reading
from .remembered import let_go

_LEVELS = ("integrated_lufs", "max_momentary_lufs", "max_short_term_lufs", "sample_peak_dbfs", "rms_dbfs")
_OTHERWISE = ("source", "true_peak_per_channel_dbtp", "notes", "curves", "dc_offset", "dialogue_lufs")
"""Kept in another form, or, as the level of speech, told from what else is kept."""

_PLAIN = tuple(field.name for field in fields(Measured) if field.name not in (*_LEVELS, *_OTHERWISE))


def is_measured(digest: str) -> bool:
    """Whether these contents were measured by the present meter."""
    return Reading.select().where(Reading.digest == digest, Reading.meter_version == METER_VERSION).exists()


def save_reading(digest: str, measured: Measured, audio: AudioFolder) -> None:
    """Keep a reading and its curves; one that is there already is replaced."""
    audio.save_curves(digest, measured.curves)
    row = {"meter_version": METER_VERSION, "figures": _to_json(measured)}
    Reading.insert(digest=digest, **row).on_conflict(conflict_target=[Reading.digest], update=row).execute()
    _figures.pop((digest, audio), None)


def load_reading(digest: str, audio: AudioFolder) -> Measured:
    """The reading of some contents, with its curves."""
    return replace(load_figures(digest, audio), curves=audio.load_curves(digest))


REMEMBERED = 20_000
_figures: dict[tuple[str, AudioFolder], tuple[int, Measured]] = {}
"""Figures that were loaded, with the version of their meter, the latest last. What one meter measures of contents
never changes."""


def load_figures(digest: str, audio: AudioFolder) -> Measured:
    """The same without its curves, which is remembered. Raises LostError where they are not kept."""
    if found := _figures.get((digest, audio)):
        return found[1]
    row = Reading.get_or_none(Reading.digest == digest)
    if row is None:
        raise LostError(MEASURED_LOST)
    return _remember((digest, row.meter_version, row.figures), audio)


def has_figures(digest: str, audio: AudioFolder) -> bool:
    """As `is_measured`, without asking for what is remembered: of contents that are on a board, which are kept."""
    return _remembers(digest, audio) or is_measured(digest)


def prefetch_figures(digests: Iterable[str], audio: AudioFolder) -> None:
    """Have the figures of many contents at hand, by one question instead of one for each."""
    missing = {digest for digest in digests if not _remembers(digest, audio)}
    wanted = Reading.select(Reading.digest, Reading.meter_version, Reading.figures)
    for row in database.execute(wanted.where(Reading.digest == one_of(missing))) if missing else ():
        _remember(row, audio)


def _remembers(digest: str, audio: AudioFolder) -> bool:
    found = _figures.get((digest, audio))
    return found is not None and found[0] == METER_VERSION


def _remember(row: tuple[str, int, dict[str, Any]], audio: AudioFolder) -> Measured:
    digest, meter_version, figures = row
    found = _from_json(figures, audio, digest)
    _figures[digest, audio] = meter_version, found
    let_go(_figures, REMEMBERED)
    return found


_shapes: dict[str, Shape] = {}


def known_shape(digest: str) -> Shape | None:
    """Of some contents what is known without their audio; None where they were not measured."""
    return known_shapes([digest]).get(digest)


def known_shapes(digests: Iterable[str]) -> dict[str, Shape]:
    """The same of many, by one question; remembered once it is known."""
    wanted = set(digests)
    if missing := wanted - _shapes.keys():
        rows: Any = database.execute(
            Reading.select(Reading.digest, fn.jsonb_extract_path(Reading.figures, "source")).where(
                Reading.digest == one_of(missing)
            )
        )
        for digest, facts in rows:
            _shapes[digest] = Shape(facts["sample_rate_hz"], _layout(facts["layout"]), facts["frames"])
    found = {digest: shape for digest in wanted if (shape := _shapes.get(digest))}
    let_go(_shapes, REMEMBERED)
    return found


def _to_json(measured: Measured) -> dict[str, Any]:
    source = measured.source
    return {
        **{name: getattr(measured, name) for name in _PLAIN},
        **{name: _finite(getattr(measured, name)) for name in _LEVELS},
        "true_peak_per_channel_dbtp": [_finite(peak) for peak in measured.true_peak_per_channel_dbtp],
        "dc_offset": list(measured.dc_offset),
        "notes": [[note.code, note.sentence, list(note.places)] for note in measured.notes],
        "source": {
            **{name: getattr(source, name) for name in _SOURCE_FACTS},
            "layout": [source.layout.name, list(source.layout.positions), source.layout.assumed],
        },
    }


_SOURCE_FACTS = (
    "size_bytes",
    "container",
    "encoding",
    "sample_rate_hz",
    "frames",
    "bits_declared",
    "bitrate_kbps",
    "dialnorm_db",
)


def _from_json(figures: dict[str, Any], audio: AudioFolder, digest: str) -> Measured:
    facts = dict(figures["source"])
    source = Source(path=audio.named_path(digest), layout=_layout(facts.pop("layout")), **facts)
    return Measured(
        source=source,
        true_peak_per_channel_dbtp=tuple(_level(peak) for peak in figures["true_peak_per_channel_dbtp"]),
        dc_offset=tuple(figures["dc_offset"]),
        notes=tuple(_note(*parts) for parts in figures["notes"]),
        **_plain(figures),
    )


def _layout(kept: list[Any]) -> Layout:
    name, positions, assumed = kept
    return Layout(name, tuple(positions), assumed)


def _plain(figures: dict[str, Any]) -> dict[str, Any]:
    return {name: figures[name] for name in _PLAIN} | {name: _level(figures[name]) for name in _LEVELS}


def _note(code: str, sentence: str, places: list[list[float]]) -> Note:
    return Note(code, sentence, tuple((start_s, end_s) for start_s, end_s in places))


def _finite(level: float) -> float | None:
    """A level of nothing is null in the database, which knows no infinity in JSON."""
    return level if math.isfinite(level) else None


def _level(stored: float | None) -> float:
    return -math.inf if stored is None else stored
