"""The door: signing in and out, and choosing a password by an invitation."""

from typing import Any
from urllib.parse import urlsplit

from flask import Blueprint, abort, redirect, render_template, request, session, url_for
from flask_login import current_user, logout_user

from nicelevel.core.errors import NiceLevelError, SpecError
from nicelevel.desk.doors import SignInError, begin, change_password, digest_of, sign_in
from nicelevel.store.journal import acting, enter
from nicelevel.store.people import end_sign_in, invited, people

from .gate import app_config, forget_remembered, from_where, let, visitor

doors = Blueprint("doors", __name__)


@doors.get("/sign-in")
def page() -> Any:
    """The door: name and password."""
    if current_user.is_authenticated or not app_config().accounts:
        return redirect(_onward())
    return _form("", 200)


@doors.post("/sign-in")
def come_in() -> Any:
    """Sign in. For browsers; programs have tokens."""
    if not app_config().accounts:
        abort(404)
    name, password = request.form.get("name", ""), request.form.get("password", "")
    try:
        token = sign_in(name, password, from_where(), request.user_agent.string)
    except NiceLevelError as error:
        return _form(error.message, 401 if isinstance(error, SignInError) else 429)
    let(token)
    return redirect(_onward())


def _form(problem: str, status: int) -> Any:
    typed = request.form.get("name", "")
    nobody = not people()
    page = render_template("doors/sign_in.html", problem=problem, typed=typed, nobody=nobody, next=_onward())
    return page, status


@doors.post("/sign-out")
def leave() -> Any:
    """Sign out."""
    key = visitor().key
    if key:
        end_sign_in(digest_of(key))
        enter(f"{visitor().name} signed out")
    logout_user()
    session.clear()
    forget_remembered()
    return redirect(url_for("doors.page"))


@doors.get("/invited/<secret>")
def invited_page(secret: str) -> Any:
    """Where somebody invited chooses a password."""
    person = invited(digest_of(secret))
    if person is None:
        return render_template("error.html", message=NO_INVITATION, status=404), 404
    return render_template("doors/invited.html", person=person, secret=secret, problem="")


NO_INVITATION = "This address was for choosing a password, and holds no more. An operator can give you another."


@doors.post("/invited/<secret>")
def choose(secret: str) -> Any:
    """Choose it; the address is used up by that."""
    person = invited(digest_of(secret))
    if person is None:
        return render_template("error.html", message=NO_INVITATION, status=404), 404
    with acting(person.name):
        try:
            change_password(person, request.form.get("password", ""))
        except SpecError as error:
            return render_template("doors/invited.html", person=person, secret=secret, problem=error.message), 422
        token = begin(person, from_where(), request.user_agent.string)
    forget_remembered()
    let(token)
    return redirect(url_for("jobs.index"))


def _onward() -> str:
    """Where somebody was going; never to another site."""
    asked = request.values.get("next", "")
    parts = urlsplit(asked)
    is_ours = asked.startswith("/") and not asked.startswith(("//", "/\\")) and not parts.scheme and not parts.netloc
    return asked if is_ours and asked.isprintable() else url_for("jobs.index")
