"""Specs: the list with one of them drawn, drafts of it, versions kept, copies, TOML in and out."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request, url_for

from nicelevel.core.errors import NiceLevelError, SpecError
from nicelevel.core.files.names import deliverable_path
from nicelevel.core.plan import plan
from nicelevel.core.plan.formats import outputs_beside
from nicelevel.core.specs import Spec, parse_spec
from nicelevel.core.specs.contradictions import Contradiction, contradictions
from nicelevel.core.specs.spec import ENCODINGS_OF
from nicelevel.core.specs.write import spec_to_toml
from nicelevel.core.toml import LARGEST_TOML_BYTES
from nicelevel.core.values import Plan, Reading
from nicelevel.desk.contents import Contents, described_of
from nicelevel.desk.planning import with_level_of_speech
from nicelevel.desk.prepared import nearly_prepared
from nicelevel.desk.roll import counting_sources
from nicelevel.report.spec_view import SpecDrawing, draw_spec
from nicelevel.report.spec_words import spec_notes
from nicelevel.store.jobs import add_destination, all_jobs, find_job
from nicelevel.store.models import Job
from nicelevel.store.readings import load_figures
from nicelevel.store.specs import (
    Known,
    free_slug,
    jobs_with,
    keep_version,
    known_specs,
    rename_slug,
    slug_for,
    trash_spec,
    was_used,
)
from nicelevel.store.undo import changing, redo, undo
from nicelevel.work.enqueue import enqueue_preparations

from .for_programs import spec_row_json, wants_json
from .found import audio
from .spec_fields import fields_of_spec, spec_of_fields

_EMPTY = '[spec]\nname = "New spec"\n\n[[formats]]\ncontainer = "wav"\n'

specs = Blueprint("specs", __name__, url_prefix="/specs")

MOST_STANDING = 40
MOST_PATHS = 4


@dataclass(frozen=True)
class View:
    """A spec as the screen shows it, kept or a draft."""

    known: Known
    spec: Spec
    fields: dict[str, str]
    drawing: SpecDrawing
    contradictions: tuple[Contradiction, ...]
    notes: tuple[str, ...]
    paths: tuple[str, ...]
    job: Job | None
    was_used: bool


@specs.get("/")
def index() -> Any:
    """Every spec, with all that it asks for; the page shows the first."""
    if wants_json():
        return jsonify(specs=[spec_row_json(each) for each in known_specs().values()])
    return redirect(url_for("specs.show", slug=next(iter(known_specs()))))


@specs.get("/<slug>")
def show(slug: str) -> Any:
    """A spec, drawn; as JSON all that it asks for."""
    known = _known_or_404(slug)
    if wants_json():
        return jsonify(spec_row_json(known))
    view = _view(known, known.spec, _job(slug))
    held = {container: sorted(encodings) for container, encodings in ENCODINGS_OF.items()}
    return render_template("specs/spec.html", view=view, groups=_groups(), jobs=all_jobs(), encodings_of=held)


@specs.post("/<slug>/draft")
def draft(slug: str) -> str:
    """What the fields of the page say, drawn; nothing is kept."""
    known = _known_or_404(slug)
    spec = spec_of_fields(request.form, slug)
    return render_template("specs/parts.html", view=_view(known, spec, _job(slug)))


@specs.post("/<slug>/keep")
def keep(slug: str) -> Any:
    """Keep what the fields say as the next version; every board with this spec goes on with it.

    made_from: the version that the page shows; where another was kept meanwhile, nothing is, unless `over` says so.
    """
    before = _known_or_404(slug)
    made_from = None if "over" in request.form else request.form.get("made_from", type=int)
    spec = spec_of_fields(request.form, slug)
    called = slug_for(before, spec.spec.name, request.form.get("slug", "").strip())
    known = keep_version(slug, spec_to_toml(spec), made_from)
    rename_slug(slug, called)
    for job_id in jobs_with(called):
        enqueue_preparations(job_id, audio())
    return jsonify(version=known.version, address=url_for("specs.show", slug=called))


@specs.post("/<slug>/copy")
def copy(slug: str) -> Any:
    """An own spec that begins as this one, or as the fields of the page say."""
    known = _known_or_404(slug)
    spec = spec_of_fields(request.form, slug) if "spec.name" in request.form else known.spec
    name = f"{spec.spec.name}, own"
    about = spec.spec.model_copy(update={"name": name, "source": "house rule"})
    job = _job(slug) if "use" in request.form else None
    return _keep_new(name, spec_to_toml(spec.model_copy(update={"spec": about})), job)


@specs.post("/<slug>/delete")
def delete(slug: str) -> Any:
    """Throw an own spec away; its versions stay, for what was proved by them."""
    known = _known_or_404(slug)
    with changing(f"deleted {known.spec.spec.name}"):
        trash_spec(slug)
    return jsonify(address=url_for("specs.index"))


@specs.post("/undo")
def undo_here() -> Any:
    """Bring back the spec that was deleted last, or with `again` delete it once more."""
    words = redo() if "again" in request.form else undo()
    return jsonify(undone=words)


@specs.post("/new")
def new() -> Any:
    """An own spec that asks for nothing yet."""
    return _keep_new("New spec", _EMPTY)


@specs.post("/import")
def take_in() -> Any:
    """An own spec from a TOML file: its bytes are the body, its name is in the address."""
    try:
        toml = request.stream.read(LARGEST_TOML_BYTES + 1).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise SpecError("The file is not readable as text.") from error
    name = request.args.get("name", "spec").removesuffix(".toml")
    parse_spec(toml, name)
    return _keep_new(name, toml)


def _keep_new(name: str, toml: str, job: Job | None = None) -> Any:
    """job: whose board gets it as a destination at once."""
    slug = free_slug(name)
    keep_version(slug, toml)
    if job:
        with changing(f"added {name}", job.id):
            add_destination(job.id, slug)
        enqueue_preparations(job.id, audio())
    return jsonify(slug=slug, address=url_for("specs.show", slug=slug, job=job.id if job else None))


@specs.get("/<slug>.toml")
def toml(slug: str) -> Response:
    """A spec as the file that it can be kept as."""
    known = _known_or_404(slug)
    headers = {"Content-Disposition": f'attachment; filename="{slug}.toml"'}
    return Response(known.toml, mimetype="application/toml", headers=headers)


def _known_or_404(slug: str) -> Known:
    return known_specs().get(slug) or abort(404)


def _groups() -> list[tuple[str, list[Known]]]:
    """All specs under the headings of the list."""
    own: list[Known] = []
    published: list[Known] = []
    practice: list[Known] = []
    for known in known_specs().values():
        shipped = practice if known.spec.spec.source == "common practice" else published
        (own if known.is_own else shipped).append(known)
    return [("Published", published), ("Common practice", practice), ("Own", own)]


def _job(slug: str) -> Job | None:
    """The job whose sources stand against the spec: the one asked for, one that has it, or the newest."""
    asked = request.args.get("job", type=int)
    candidates = [asked] if asked else [*jobs_with(slug), *(job.id for job in all_jobs())]
    return next((job for job in map(find_job, candidates) if job), None)


def _view(known: Known, spec: Spec, job: Job | None) -> View:
    sources = _sources_against(spec, job) if job else []
    readings = [reading for _, reading, _, _ in sources]
    plans = [found for _, _, found, _ in sources if found]
    return View(
        known,
        spec,
        fields_of_spec(spec),
        draw_spec(spec, sources),
        contradictions(spec),
        spec_notes(spec, readings, plans),
        _paths(spec, sources[:MOST_PATHS])[:MOST_PATHS],
        job,
        known.is_own and was_used(known.spec.slug),
    )


def _paths(spec: Spec, sources: Sequence[tuple[str, Reading, Plan | None, str]]) -> tuple[str, ...]:
    """How the files of these sources are going to be called."""
    return tuple(
        str(deliverable_path(title, spec, output, outputs_beside(reading.source, spec)))
        for title, reading, found, _ in sources
        for output in outputs_beside(reading.source, spec)
        if found and output.of_all_channels == found.output
    )


def _sources_against(spec: Spec, job: Job) -> list[tuple[str, Reading, Plan | None, str]]:
    counting = counting_sources(job.id, audio())
    measured = [source for source in counting if source.state == "measured"][:MOST_STANDING]
    return [(source.title, *_against(spec, source.digest)) for source in measured]


def _against(spec: Spec, digest: str) -> tuple[Reading, Plan | None, str]:
    reading = load_figures(digest, audio())
    try:
        contents = Contents(digest).then(spec)
        found = plan(described_of(contents, audio()), nearly_prepared(contents, audio()), spec)
        return with_level_of_speech(reading, contents, found, audio()), found, ""
    except NiceLevelError as error:
        return reading, None, error.message
