"""What a client is shown by a signed link, and what they say of it; making and withdrawing such links."""

from typing import Any

from flask import Blueprint, Response, abort, current_app, jsonify, make_response, render_template, request, send_file
from flask import url_for as address_for

from nicelevel.config import Config
from nicelevel.core.errors import NotFoundError
from nicelevel.desk.client_links import (
    ROLES,
    client_sheet,
    file_or_error,
    files_of,
    holds,
    make_link,
    opened,
    opened_file,
    say,
    signed,
)
from nicelevel.handover.package import package_of
from nicelevel.handover.sheets import sheet_of, sheets_html, sheets_pdf
from nicelevel.store.client_links import answers_of, find_link, links_of, see_link, withdraw_link
from nicelevel.store.deliverables import file_of
from nicelevel.store.depot import bring
from nicelevel.store.door_models import ClientAnswer, ClientLink

from .for_programs import link_json
from .found import audio, job_or_404
from .hearing import second_of, sound_of
from .proofs import proof_page

links = Blueprint("links", __name__)
clients = Blueprint("clients", __name__, url_prefix="/for")
"""Needs no account: whoever has the link is who it is for."""


@links.get("/jobs/<int:job_id>/links")
def index(job_id: int) -> Any:
    """The links that clients were given, and what they said; for programs, the Handover screen has them drawn."""
    job_or_404(job_id)
    return jsonify(links=[link_json(each, address_of(each)) for each in links_of(job_id)])


@links.post("/jobs/<int:job_id>/links")
def make(job_id: int) -> Any:
    """A link that shows what is in the package now to somebody; its address is in the answer."""
    job = job_or_404(job_id)
    package = package_of(job, audio(), _config().deliverables_folder)
    days = request.form.get("days", 30, type=int)
    may_fetch = "may_fetch" in request.form
    client = request.form.get("client", "")
    paths = [each.name for each in package.files]
    link = make_link(job_id, client, days, may_fetch, package.deliverables, paths)
    return jsonify(link=link.id, address=address_of(link))


@links.post("/links/<int:link_id>/withdraw")
def withdraw(link_id: int) -> Any:
    """Withdraw a link: it shows nothing any more."""
    link = find_link(link_id) or abort(404)
    withdraw_link(link)
    return jsonify(withdrawn=link_id)


def shown_links(job_id: int) -> dict[str, Any]:
    """What the Handover screen says of a job's links: each with what was said last of its files."""
    made = links_of(job_id)
    answers = {each.id: _latest_answers(each) for each in made}
    return {"links": made, "answers": answers, "holds": holds, "address_of": address_of}


def _latest_answers(link: ClientLink) -> list[tuple[str, ClientAnswer]]:
    said = answers_of(link)
    return [(file["path"], each) for file in link.files for each in said.get(file["sha256"], ())[-1:]]


def address_of(link: ClientLink) -> str:
    """Where a client finds what they are shown, in full."""
    return address_for("clients.page", link=signed(link, _secret()), _external=True)


@clients.get("/<link>/")
def page(link: str) -> Any:
    """What a client is shown."""
    try:
        shown = opened(link, _secret())
    except NotFoundError as error:
        return _plain("clients/gone.html", 404, message=error.message)
    see_link(shown)
    return _plain("clients/client.html", 200, link=shown, at=link, files=files_of(shown))


@clients.get("/<link>/files")
def parts(link: str) -> Any:
    """What the page swaps in when something was said."""
    shown = opened(link, _secret())
    return _plain("clients/_files.html", 200, link=shown, at=link, files=files_of(shown))


@clients.get("/<link>/<int:number>/hear")
def transport(link: str, number: int) -> Any:
    """What the page needs to play a file."""
    shown = opened(link, _secret())
    address = address_for("clients.page", link=link).rstrip("/")
    return _plain("hear/transport.html", 200, sheet=client_sheet(shown, number, address, audio()))


@clients.get("/<link>/<int:number>/hear/<role>/<int:rate_hz>/<int:piece>")
def hear(link: str, number: int, role: str, rate_hz: int, piece: int) -> Response:
    """A second of a file, or of the mix that it was made of."""
    if role not in ROLES:
        abort(404)
    with opened_file(opened(link, _secret()), number, role, audio(), _config().deliverables_folder) as programme:
        return sound_of(second_of(programme, rate_hz, piece))


@clients.get("/<link>/<int:number>/proof")
def proof(link: str, number: int) -> Response:
    """The proof sheet of a file behind a link."""
    _, made = file_or_error(opened(link, _secret()), number)
    sheet = sheet_of(made, audio())
    return proof_page(sheets_html(sheet.made.title, [sheet]))


@clients.get("/<link>/<int:number>/proof.pdf")
def proof_pdf(link: str, number: int) -> Response:
    """The same as PDF."""
    _, made = file_or_error(opened(link, _secret()), number)
    sheet = sheet_of(made, audio())
    return Response(sheets_pdf(sheet.made.title, [sheet]), mimetype="application/pdf")


@clients.get("/<link>/<int:number>/file")
def fetch(link: str, number: int) -> Any:
    """A file behind a link, where the link allows it."""
    shown = opened(link, _secret())
    if not shown.may_fetch:
        abort(404)
    _, made = file_or_error(shown, number)
    path = bring(file_of(made, _config().deliverables_folder))
    return send_file(path, as_attachment=True, download_name=path.name)


@clients.post("/<link>/<int:number>/answer")
def answer(link: str, number: int) -> Any:
    """Accepted, or what to change, at a time where there is one."""
    typed = request.form
    said = say(
        opened(link, _secret()), number, typed.get("verdict", ""), typed.get("note", ""), typed.get("from_s", "")
    )
    return jsonify(said=said.verdict)


def _plain(template: str, status: int, **shown: Any) -> Response:
    """Never kept on the way, never found by searching, and its address is told to nobody."""
    made = make_response(render_template(template, **shown), status)
    made.headers["Cache-Control"] = "no-store"
    made.headers["X-Robots-Tag"] = "noindex"
    made.headers["Referrer-Policy"] = "no-referrer"
    return made


def _secret() -> str:
    return str(current_app.config["SECRET_KEY"])


def _config() -> Config:
    config: Config = current_app.config["NICE_LEVEL"]
    return config
