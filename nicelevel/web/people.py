"""People, kept by operators; and what everybody keeps of their own: password, browsers, tokens."""

from typing import Any

from flask import Blueprint, abort, redirect, render_template, request, url_for

from nicelevel.core.errors import NiceLevelError, SpecError
from nicelevel.desk.doors import (
    SHORTEST_PASSWORD,
    SignInError,
    begin,
    change_password,
    change_roles,
    digest_of,
    end_account,
    new_invitation,
    new_person,
    new_token,
    sign_in,
)
from nicelevel.desk.rights import RIGHTS_OF
from nicelevel.store.door_models import Person
from nicelevel.store.journal import enter
from nicelevel.store.people import (
    end_sign_in,
    end_sign_in_of,
    find_person,
    sign_ins_of,
    tokens_of,
    withdraw_token,
)
from nicelevel.store.people import people as all_people

from .gate import app_config, forget_remembered, from_where, let, visitor

people = Blueprint("people", __name__)


@people.get("/people")
def index() -> str:
    """People: who has an account, and what each may do."""
    return _page()


@people.post("/people")
def add() -> Any:
    """Give somebody an account, and an address where they choose a password."""
    try:
        person = new_person(request.form.get("name", ""), request.form.getlist("role"), None)
    except SpecError as error:
        return _page(problem=error.message), 422
    return _page(invited=person, secret=new_invitation(person))


@people.post("/people/<int:person_id>")
def change(person_id: int) -> Any:
    """What somebody may do from now on."""
    try:
        change_roles(_person_or_404(person_id), request.form.getlist("role"))
    except SpecError as error:
        return _page(problem=error.message), 422
    forget_remembered()
    return redirect(url_for("people.index"))


@people.post("/people/<int:person_id>/invite")
def invite(person_id: int) -> Any:
    """Let somebody choose a new password; the old one holds until then."""
    person = _person_or_404(person_id)
    return _page(invited=person, secret=new_invitation(person))


@people.post("/people/<int:person_id>/end")
def end(person_id: int) -> Any:
    """End an account; what was done with it stays in the journal."""
    try:
        end_account(_person_or_404(person_id))
    except SpecError as error:
        return _page(problem=error.message), 422
    forget_remembered()
    return redirect(url_for("people.index"))


def _page(problem: str = "", invited: Person | None = None, secret: str = "") -> str:
    address = url_for("doors.invited_page", secret=secret, _external=True) if secret else ""
    listed = [(each, sign_ins_of(each)) for each in all_people()]
    return render_template(
        "doors/people.html", listed=listed, roles=RIGHTS_OF, problem=problem, invited=invited, address=address
    )


@people.get("/account")
def account() -> str:
    """One's own account: browsers that are signed in, tokens, password."""
    return _own_page()


@people.post("/account/password")
def own_password() -> Any:
    """A new password for who knows the old one; every other browser is signed out by it."""
    person, typed = _self_or_404(), request.form
    try:
        # Guessing the old one is throttled like guessing at the door.
        end_sign_in(digest_of(sign_in(person.name, typed.get("old", ""), from_where(), "")))
        change_password(person, typed.get("password", ""))
    except NiceLevelError as error:
        known = isinstance(error, SignInError)
        return _own_page(problem="That is not your password now." if known else error.message), 422
    let(begin(person, from_where(), request.user_agent.string))
    forget_remembered()
    return redirect(url_for("people.account"))


@people.post("/account/browsers/<int:sign_in_id>/end")
def end_own(sign_in_id: int) -> Any:
    """Sign one of one's own browsers out."""
    person = _self_or_404()
    end_sign_in_of(person, sign_in_id)
    enter(f"signed another browser of {person.name} out")
    forget_remembered()
    return redirect(url_for("people.account"))


@people.post("/account/tokens")
def add_token() -> Any:
    """A token for a program; the answer is the only place where it stands."""
    try:
        token = new_token(_self_or_404(), request.form.get("name", ""))
    except SpecError as error:
        return _own_page(problem=error.message), 422
    return _own_page(token=token)


@people.post("/account/tokens/<int:token_id>/withdraw")
def withdraw(token_id: int) -> Any:
    """Withdraw a token of one's own; the program that has it is let in no more."""
    person = _self_or_404()
    withdraw_token(person, token_id)
    enter(f"withdrew a token of {person.name}")
    forget_remembered()
    return redirect(url_for("people.account"))


def _own_page(problem: str = "", token: str = "") -> str:
    person = _self_or_404()
    here = digest_of(visitor().key) if visitor().key else ""
    return render_template(
        "doors/account.html",
        person=person,
        browsers=sign_ins_of(person),
        here=here,
        tokens=tokens_of(person),
        token=token,
        problem=problem,
        roles=RIGHTS_OF,
        shortest=SHORTEST_PASSWORD,
        hours=app_config().signed_in_hours,
    )


def _self_or_404() -> Person:
    """Whoever is signed in; nobody is at a machine without accounts."""
    return find_person(visitor().id or 0) or abort(404)


def _person_or_404(person_id: int) -> Person:
    return find_person(person_id) or abort(404)
