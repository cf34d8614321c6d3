"""The data of the Before-and-after screen: a source and its plan, or an older version and the source."""

import re
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.errors import NotFoundError
from nicelevel.core.hear import Score
from nicelevel.core.hear.changes import changes_between
from nicelevel.core.plan.predict import after_plan
from nicelevel.core.specs import Spec
from nicelevel.core.values import Plan
from nicelevel.desk.contents import contents_of
from nicelevel.desk.hearing import GONE, plan_at
from nicelevel.desk.hearing_sheet import HearingSheet, sheet_of
from nicelevel.desk.planning import limited_of, spec_at
from nicelevel.desk.prepared import load_prepared
from nicelevel.report.before_after import Side, changes_words
from nicelevel.store.audio import AudioFolder
from nicelevel.store.blind_tests import blind_tests_of, score_of
from nicelevel.store.differences import kept_differences
from nicelevel.store.models import BlindTest, Destination, Source
from nicelevel.store.readings import load_reading
from nicelevel.store.sources import find_source
from nicelevel.work.differences import defer_comparison

_VERSION = re.compile(r"source-(\d{1,18})")


@dataclass(frozen=True)
class Comparison:
    """Two sides on one axis, what can be heard, and what is said of them.

    version: where one is compared with; is_pending: whether more is going to be said of it.
    """

    source: Source
    destination: Destination
    spec: Spec
    plan: Plan | None
    before: Side
    after: Side
    sheet: HearingSheet
    version: Source | None
    sentences: tuple[str, ...]
    is_pending: bool
    band_lufs: tuple[float, float] | None
    blind: tuple[tuple[BlindTest, Score], ...]


def sides_of(
    source: Source, destination: Destination, audio: AudioFolder, against: str | None
) -> tuple[Side, Side, Source | None]:
    """What is drawn; against: the key of another version to set it against, instead of the plan."""
    if against:
        found = _VERSION.fullmatch(against)
        version = find_source(int(found[1])) if found else None
        if version is None or version.job_id != source.job_id or version.state != "measured":
            raise NotFoundError(GONE)
        return _of_source(version, version.title, audio), _of_source(source, source.title, audio), version
    return _of_source(source, "source", audio), _of_plan(source, destination, audio), None


def compare(source: Source, destination: Destination, audio: AudioFolder, against: str | None = None) -> Comparison:
    """All of the page. Raises NotFoundError where the source is not measured or the version is not there."""
    sheet = sheet_of(source, destination, audio)
    if sheet is None:
        raise NotFoundError("This source is not measured yet.")
    before, after, version = sides_of(source, destination, audio, against)
    sheet = replace(sheet, against=against) if version else sheet
    spec = spec_at(source, destination)
    plan, is_pending = plan_at(source, destination, audio), False
    sentences = tuple(plan.reasons) if plan else ("There is no plan here yet.",)
    if version:
        sentences, is_pending = changes_of(version, source, audio)
    tests = tuple((each, score_of(each)) for each in blind_tests_of(source.id))
    band = None if version else _band(spec, plan)
    return Comparison(
        source, destination, spec, plan, before, after, sheet, version, sentences, is_pending, band, tests
    )


def changes_of(older: Source, newer: Source, audio: AudioFolder) -> tuple[tuple[str, ...], bool]:
    """What became of an older version, in sentences, and whether their audio is still being compared: it is from now
    on, where it was not yet."""
    curves = changes_between(*(load_reading(each.digest, audio) for each in (older, newer)))
    found, problem = kept_differences(older, newer)
    is_pending = found is None and problem is None
    if is_pending:
        defer_comparison(older, newer)
    return tuple(changes_words(curves, found, problem)), is_pending


def _of_source(source: Source, name: str, audio: AudioFolder) -> Side:
    reading = load_reading(source.digest, audio)
    bins = partial(_bins, source.digest, audio)
    return Side(name, reading.curves.energies, reading.integrated_lufs, reading.source.duration_s, bins)


def _of_plan(source: Source, destination: Destination, audio: AudioFolder) -> Side:
    plan = plan_at(source, destination, audio)
    if plan is None:
        return _of_source(source, "as it is", audio)
    prepared, limited = load_prepared(contents_of(source), plan.chain.recipe, audio), limited_of(source, plan, audio)
    return Side(
        "planned",
        after_plan(prepared, plan, limited).energies,
        plan.predicted.integrated_lufs,
        plan.predicted.source.duration_s,
        partial(_bins, contents_of(source).name_of_chain(plan.chain), audio),
        plan.gain_db,
        plan.limiting.limiter.ceiling_db if plan.limiting else None,
        limited.lowest if limited else None,
        plan.chain.timeline,
    )


def _bins(digest: str, audio: AudioFolder, number: int) -> NDArray[np.int16]:
    bins: NDArray[np.int16] = np.load(audio.waveform_path(digest, number), mmap_mode="r")
    return bins


def _band(spec: Spec, plan: Plan | None) -> tuple[float, float] | None:
    """The target, where it is a loudness over time."""
    if plan is None or spec.loudness is None or spec.loudness.measure not in ("integrated", "max_short_term"):
        return None
    target = spec.loudness.target_for(plan.predicted.source.channels)
    return target - spec.loudness.tolerance, target + spec.loudness.tolerance
