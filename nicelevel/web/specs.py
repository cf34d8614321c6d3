"""Specs: the ones that ship, as they are."""

from flask import Blueprint, Response, abort, render_template

from nicelevel.core.specs import shipped_specs
from nicelevel.core.specs.library import shipped_toml

specs = Blueprint("specs", __name__, url_prefix="/specs")


@specs.get("/")
def index() -> str:
    texts = {slug: shipped_toml(slug) for slug in shipped_specs()}
    return render_template("specs/index.html", shipped=shipped_specs(), texts=texts)


@specs.get("/<slug>.toml")
def toml(slug: str) -> Response:
    if slug not in shipped_specs():
        abort(404)
    headers = {"Content-Disposition": f'attachment; filename="{slug}.toml"'}
    return Response(shipped_toml(slug), mimetype="application/toml", headers=headers)
