"""Who may come in: names, passwords, sign-ins, tokens, and how often somebody may guess.

Passwords are kept as Argon2id (RFC 9106, its second recommended option: 64 MiB, three passes, four lanes). What a
browser or a program signs in with is random, and only its SHA-256 is kept. A name that nobody has takes the same time
and gets the same answer as a wrong password.
"""

import hashlib
import secrets
import threading
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from argon2.profiles import RFC_9106_LOW_MEMORY
from peewee import IntegrityError

from nicelevel.core.errors import NiceLevelError, NotFoundError, SpecError
from nicelevel.store.database import database
from nicelevel.store.door_models import LONGEST_NAME, Person
from nicelevel.store.journal import enter
from nicelevel.store.people import (
    add_person,
    add_token,
    begin_sign_in,
    failures,
    find_sign_in,
    find_token,
    forget_failures,
    forget_try,
    give_roles,
    invite,
    keep_password_hash,
    let_go,
    note_try,
    people,
    person_named,
    set_password_hash,
)

from .rights import RIGHTS_OF, Right, rights_of

SHORTEST_PASSWORD = 15
"""Signs; NIST SP 800-63B-4 for a password that is the only factor (from memory)."""

LONGEST_PASSWORD = 1000
TOKEN_START = "nl_"

WINDOW = timedelta(minutes=15)
MOST_OF_PAIR, MOST_OF_ADDRESS, MOST_OF_NAME = 5, 30, 100
"""Wrong tries within the window: of one name from one address, from one address, of one name from anywhere."""

_AT_ONCE = threading.BoundedSemaphore(2)
"""Each look at a password takes 64 MiB, and a twentieth of a second or more."""

LONGEST_LOOK_S = 5.0
"""So long somebody waits for their turn: a crowd at the door must not take every thread."""

_hasher = PasswordHasher.from_parameters(RFC_9106_LOW_MEMORY)


class SignInError(NiceLevelError):
    """Name or password are not right; which of them is not told."""

    code = "sign_in"


class ThrottledError(NiceLevelError):
    """Too many wrong tries."""

    code = "throttled"


@dataclass(frozen=True)
class Visitor:
    """Somebody who came in. key: what their browser is known by; id: None at this machine, where all may come in."""

    id: int | None
    name: str
    rights: frozenset[Right]
    key: str = ""


def new_person(name: str, roles: Sequence[str], password: str | None) -> Person:
    """Make an account. Raises SpecError where a name, a role or a password cannot be."""
    name = " ".join(unicodedata.normalize("NFKC", name).split())
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise SpecError(f"A name has 1 to {LONGEST_NAME} signs that can be shown.", "name")
    _check_roles(roles)
    hashed = hashed_password(password, name) if password is not None else None
    try:
        with database.atomic():
            person = add_person(name, name_key(name), roles, hashed)
            enter(f"gave {name} an account: {', '.join(roles)}")
            return person
    except IntegrityError as error:
        raise SpecError(f"There is somebody called {name} already.", "name") from error


def change_roles(person: Person, roles: Sequence[str]) -> None:
    """Raises SpecError where nobody would be left who keeps people."""
    _check_roles(roles)
    if "operator" not in roles:
        _refuse_last_operator(person)
    with database.atomic():
        give_roles(person, roles)
        enter(f"made {person.name} {', '.join(roles)}")


def end_account(person: Person) -> None:
    """Raises SpecError where nobody would be left who keeps people."""
    _refuse_last_operator(person)
    with database.atomic():
        let_go(person)
        enter(f"ended the account of {person.name}")


def change_password(person: Person, password: str) -> None:
    """Raises SpecError where it is too short. Whoever was signed in by the old one is not any more."""
    hashed = hashed_password(password, person.name)
    with database.atomic():
        set_password_hash(person, hashed)
        enter(f"changed the password of {person.name}")


def person_or_error(name: str) -> Person:
    """Raises NotFoundError."""
    found = person_named(name_key(name))
    if found is None:
        raise NotFoundError(f"There is nobody called {name}.")
    return found


def hashed_password(password: str, name: str) -> str:
    """Raises SpecError where a password is too short, too long, or easily guessed."""
    if not SHORTEST_PASSWORD <= len(password) <= LONGEST_PASSWORD:
        raise SpecError(f"A password has at least {SHORTEST_PASSWORD} signs; a few words together do.", "password")
    plain = password.casefold().replace(name.casefold(), "")
    if len(set(plain)) < 5:
        raise SpecError("That password is easily guessed: it repeats a few signs, or is the name.", "password")
    with _AT_ONCE:
        return _hasher.hash(password)


def sign_in(name: str, password: str, address: str, browser: str) -> str:
    """The token for a browser of somebody who knows name and password.

    Raises SignInError, the same whatever was wrong, and ThrottledError where there were too many tries.
    """
    key = name_key(name)
    # It counts before it is looked at: many at once are not more than one after the other.
    tried = note_try(key, address, WINDOW)
    if waits := _to_wait(key, address):
        forget_try(tried)
        minutes = int(max(waits).total_seconds() // 60) + 1
        raise ThrottledError(
            f"There were too many wrong tries. Try again in {minutes} minutes."
            if minutes > 1
            else "There were too many wrong tries. Try again in a minute."
        )
    person = person_named(key)
    try:
        is_right = _is_right(person, password)
    except ThrottledError:
        forget_try(tried)  # it was not looked at
        raise
    if not is_right:
        raise SignInError("That name and password do not belong together.")
    assert person is not None
    forget_failures(key, address)
    return begin(person, address, browser)


def begin(person: Person, address: str, browser: str) -> str:
    """A new sign-in of somebody who has shown who they are; its token."""
    token = secrets.token_urlsafe(32)
    with database.atomic():
        begin_sign_in(person, digest_of(token), address, browser)
        enter(f"{person.name} signed in")
    return token


def _is_right(person: Person | None, password: str) -> bool:
    """Takes as long for a name that nobody has."""
    kept = person.password_hash if person and person.password_hash else _nobodys()
    if not _AT_ONCE.acquire(timeout=LONGEST_LOOK_S):
        raise ThrottledError("Too many people sign in at this moment. Try again in a minute.")
    try:
        try:
            _hasher.verify(kept, password[:LONGEST_PASSWORD])
        except (VerificationError, InvalidHashError):
            return False
        if person is None or not person.password_hash:
            return False
        if _hasher.check_needs_rehash(kept):
            keep_password_hash(person, _hasher.hash(password))
    finally:
        _AT_ONCE.release()
    return True


_nobodys_hash: list[str] = []


def _nobodys() -> str:
    """A hash that no password fits, made once."""
    if not _nobodys_hash:
        _nobodys_hash.append(_hasher.hash(secrets.token_urlsafe(32)))
    return _nobodys_hash[0]


def _to_wait(key: str, address: str) -> list[timedelta]:
    """How long, by each of the ways in which a try is one too many."""
    since = datetime.now(UTC) - WINDOW
    tries = (
        (failures(since, key, address), MOST_OF_PAIR),
        (failures(since, address=address), MOST_OF_ADDRESS),
        (failures(since, key), MOST_OF_NAME),
    )
    return [times[most] - since for times, most in tries if len(times) > most]


def signed_in(token: str, idle_for: timedelta, is_use: bool = True) -> Visitor | None:
    """Who a browser belongs to; None where that is over. is_use: whether somebody does something with it."""
    found = find_sign_in(digest_of(token), idle_for, is_use)
    return visitor_of(found.person, token) if found else None


def by_token(token: str) -> Visitor | None:
    """Whose program it is."""
    found = find_token(digest_of(token)) if token.startswith(TOKEN_START) else None
    return visitor_of(found.person) if found else None


def visitor_of(person: Person, key: str = "") -> Visitor:
    return Visitor(person.id, person.name, rights_of(person.roles.split()), key)


def new_token(person: Person, name: str) -> str:
    """A token for a program of somebody's; it is told this once. Raises SpecError for a name that says nothing."""
    name = " ".join(name.split())
    if not name or len(name) > LONGEST_NAME:
        raise SpecError("Say what the token is for, so that it can be told from the others.", "name")
    token = TOKEN_START + secrets.token_urlsafe(32)
    with database.atomic():
        add_token(person, name, digest_of(token))
        enter(f"made a token for a program of {person.name}: {name}")
    return token


def new_invitation(person: Person) -> str:
    """What is in the address where somebody chooses a password, once."""
    secret = secrets.token_urlsafe(32)
    with database.atomic():
        invite(person, digest_of(secret))
        enter(f"let {person.name} choose a password")
    return secret


def digest_of(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def name_key(name: str) -> str:
    """A name as it is compared: capitals, spaces and ways to write a sign make no difference."""
    return " ".join(unicodedata.normalize("NFKC", name).casefold().split())[:120]


def _check_roles(roles: Sequence[str]) -> None:
    unknown = [each for each in roles if each not in RIGHTS_OF]
    if unknown or not roles or len(set(roles)) < len(roles):
        raise SpecError(f"A role is one of {', '.join(RIGHTS_OF)}; somebody has at least one.", "roles")


def _refuse_last_operator(person: Person) -> None:
    others = [each for each in people() if "operator" in each.roles.split() and each.id != person.id]
    if "operator" in person.roles.split() and not others:
        raise SpecError(f"{person.name} is the last operator; make somebody else one first.", "roles")
