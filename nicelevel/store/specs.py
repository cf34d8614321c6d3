"""Versions of specs, kept for ever: those that ship, as jobs took them, and people's own."""

import hashlib
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache

from peewee import fn

from nicelevel.core import slugs
from nicelevel.core.errors import NiceLevelError, SpecError
from nicelevel.core.specs import Spec, parse_spec, shipped_specs
from nicelevel.core.specs.library import shipped_toml

from .changes import announce_destination
from .database import database
from .journal import enter
from .models import Deliverable, Destination, SpecInTrash, SpecVersion


@dataclass(frozen=True)
class Known:
    """A spec as it stands now: which version that is (of one that ships 0), and how many jobs have it."""

    spec: Spec
    toml: str
    version: int
    jobs: int

    @property
    def is_own(self) -> bool:
        return self.version > 0


def known_specs() -> dict[str, Known]:
    """Every spec that ships and every own one, by its slug, each in its newest version."""
    jobs = _jobs_by_slug()
    shipped = {slug: Known(spec, shipped_toml(slug), 0, jobs.get(slug, 0)) for slug, spec in shipped_specs().items()}
    own: dict[str, Known] = {}
    gone = {row.slug for row in SpecInTrash.select()}
    for row in SpecVersion.select().where(SpecVersion.slug.not_in([*shipped, *gone])).order_by(SpecVersion.id):
        version = own[row.slug].version + 1 if row.slug in own else 1
        own[row.slug] = Known(spec_of(row), row.toml, version, jobs.get(row.slug, 0))
    return shipped | own


def known_spec(slug: str) -> Known | None:
    return known_specs().get(slug)


def _jobs_by_slug() -> dict[str, int]:
    query = (
        Destination.select(SpecVersion.slug, fn.COUNT(Destination.job.distinct()))
        .join(SpecVersion)
        .where(Destination.trashed_at.is_null())
        .group_by(SpecVersion.slug)
    )
    counts: dict[str, int] = dict(list(query.tuples()))  # type: ignore[arg-type]
    return counts


class SpecConflictError(NiceLevelError):
    """Somebody else has kept a version meanwhile."""

    code = "conflict"


def keep_version(slug: str, toml: str, made_from: int | None = None) -> Known:
    """Keep a new version of an own spec; its destinations go on with it. What was proved stays judged as it was.

    made_from: the version that it was made from, where it must still be the newest. Raises SpecError where the text
    is broken, or where the slug is that of a spec that ships, and SpecConflictError.
    """
    if slug in shipped_specs():
        raise SpecError(f"{slug}: it ships with Nice Level and stays as it is; copy it to change it")
    parse_spec(toml, slug)
    with database.atomic():
        database.execute_sql("SELECT pg_advisory_xact_lock(hashtext(%s))", (f"spec {slug}",))
        known = known_spec(slug)
        if known and made_from is not None and known.version != made_from and known.toml != toml:
            raise SpecConflictError(
                f"Version {known.version} was kept meanwhile, and yours was made from version {made_from}. "
                f"Keep once more to put yours after it as version {known.version + 1}, or reload to see it first."
            )
        if known is None or known.toml != toml:
            # The number makes a text that comes back a new version.
            number = (known.version if known else 0) + 1
            _move_destinations(keep_spec(slug, toml, number))
            enter(f"kept {parse_spec(toml, slug).spec.name} as version {number}")
    kept = known_spec(slug)
    assert kept
    return kept


def trash_spec(slug: str) -> None:
    """Throw an own spec away. Raises SpecError where it ships, or a board has it."""
    if slug in shipped_specs():
        raise SpecError(f"{slug}: it ships with Nice Level and stays")
    if jobs := jobs_with(slug):
        count = len(jobs)
        raise SpecError(f"{count} job{'s have' if count > 1 else ' has'} it as a destination: take it off first.")
    SpecInTrash.insert(slug=slug, trashed_at=datetime.now(UTC)).on_conflict_ignore().execute()


def was_used(slug: str) -> bool:
    """Whether a file was ever rendered for a spec: then its slug stands in names that people have."""
    versions = SpecVersion.select(SpecVersion.id).where(SpecVersion.slug == slug)
    return bool(Deliverable.select().where(Deliverable.spec.in_(versions)).exists())


def slug_for(known: Known, name: str, asked: str = "") -> str:
    """The slug of an own spec after its name has changed, or after somebody asked for another one.

    It follows the name until a file was rendered for it. Raises SpecError where what is asked for cannot be one.
    """
    slug = known.spec.slug
    if asked and asked != slug:
        if not slugs.is_slug(asked):
            raise SpecError(f"{asked}: a short name has small letters, digits and dashes, 60 at most.")
        if asked in known_specs():
            raise SpecError(f"{asked}: another spec is called that in file names.")
        return asked
    if name == known.spec.spec.name or was_used(slug) or _base(name) == slug:
        return slug
    return free_slug(name, besides=slug)


def rename_slug(slug: str, to: str) -> None:
    """Call an own spec otherwise in file names, all its versions; files that were written keep their names."""
    if slug == to:
        return
    if slug in shipped_specs() or to in known_specs():
        raise SpecError(f"{to}: another spec is called that in file names.")
    with database.atomic():
        SpecVersion.update(slug=to).where(SpecVersion.slug == slug).execute()
    kept_version.cache_clear()


def newest_version(slug: str) -> SpecVersion:
    """The version that a job takes now. Raises SpecError where no spec has this slug."""
    if slug in shipped_specs():
        return keep_spec(slug, shipped_toml(slug))
    query = SpecVersion.select().where(SpecVersion.slug == slug)
    row: SpecVersion | None = query.order_by(SpecVersion.id.desc()).first()
    if row is None:
        raise SpecError(f"{slug}: no such spec")
    return row


def _move_destinations(version: SpecVersion) -> None:
    """Let every destination with an older version of a spec have this one."""
    older = SpecVersion.select(SpecVersion.id).where(SpecVersion.slug == version.slug, SpecVersion.id != version.id)
    moved = list(Destination.select().where(Destination.spec.in_(older)))
    for destination in moved:
        taken = Destination.select().where(Destination.job == destination.job_id, Destination.spec == version.id)
        if not taken.exists():
            Destination.update(spec=version.id).where(Destination.id == destination.id).execute()
            announce_destination(destination.job_id, destination.id)


def jobs_with(slug: str) -> list[int]:
    """Ids of the jobs that have a spec as a destination, the newest first."""
    wanted = SpecVersion.slug == slug, Destination.trashed_at.is_null()
    query = Destination.select(Destination.job).join(SpecVersion).where(*wanted).distinct()
    return sorted((row.job_id for row in query), reverse=True)


def keep_spec(slug: str, toml: str, number: int = 0) -> SpecVersion:
    """The version with this text and number (0 for those that ship), made where it is new."""
    numbered = f"{slug} {number}" if number else slug
    digest = hashlib.sha256(f"{numbered}\n{toml}".encode()).hexdigest()
    row = {"slug": slug, "digest": digest, "toml": toml}
    SpecVersion.insert(**row).on_conflict_ignore().execute()
    return SpecVersion.get(SpecVersion.digest == digest)


@dataclass(frozen=True)
class KeptSpec:
    """A spec as it was kept, and which version of an own spec that is, the first being 1 (of one that ships 0)."""

    spec: Spec
    version: int


@lru_cache(maxsize=1024)
def kept_version(version_id: int) -> KeptSpec:
    """A version by its id. What was kept never changes, so it is remembered."""
    row = SpecVersion.get_by_id(version_id)
    earlier = SpecVersion.select().where(SpecVersion.slug == row.slug, SpecVersion.id <= row.id)
    return KeptSpec(spec_of(row), 0 if row.slug in shipped_specs() else earlier.count())


def spec_of(version: SpecVersion) -> Spec:
    """The spec of a version."""
    return _parsed(version.toml, version.slug)


@lru_cache(maxsize=256)
def _parsed(toml: str, slug: str) -> Spec:
    return parse_spec(toml, slug, is_kept=True)


def free_slug(name: str, besides: str = "") -> str:
    """A slug for a name that no spec has or had; besides: one that may be taken again."""
    had = {row.slug for row in SpecVersion.select(SpecVersion.slug).distinct()}
    return slugs.free_slug(_base(name), (known_specs().keys() | had) - {besides})


def _base(name: str) -> str:
    return slugs.slug_of(name, "spec")
