"""People, the browsers and programs that they are signed in with, and tries that failed."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from nicelevel.core.errors import NotFoundError

from .database import database
from .door_models import FailedSignIn, Invitation, Person, SignIn, Token

SEEN_EVERY = timedelta(minutes=1)
"""A sign-in that is used is written down that often at most."""

INVITED_FOR = timedelta(days=7)


def add_person(name: str, name_key: str, roles: Sequence[str], password_hash: str | None) -> Person:
    """name_key: as it is compared. Raises IntegrityError where somebody has that name."""
    created: Person = Person.create(name=name, name_key=name_key, roles=" ".join(roles), password_hash=password_hash)
    return created


def people() -> Sequence[Person]:
    """Who has an account now, by name."""
    return list(Person.select().where(Person.left_at.is_null()).order_by(Person.name_key))


def find_person(person_id: int) -> Person | None:
    return Person.get_or_none(Person.id == person_id, Person.left_at.is_null())


def person_named(name_key: str) -> Person | None:
    return Person.get_or_none(Person.name_key == name_key, Person.left_at.is_null())


def give_roles(person: Person, roles: Sequence[str]) -> None:
    Person.update(roles=" ".join(roles)).where(Person.id == person.id).execute()


def set_password_hash(person: Person, password_hash: str) -> None:
    """A new password; who was signed in by the one before is not any more, and no invitation holds."""
    with database.atomic():
        Person.update(password_hash=password_hash).where(Person.id == person.id).execute()
        sign_out_everywhere(person)
        Invitation.delete().where(Invitation.person == person).execute()


def keep_password_hash(person: Person, password_hash: str) -> None:
    """The same password, kept in a stronger way."""
    Person.update(password_hash=password_hash).where(Person.id == person.id).execute()


def let_go(person: Person) -> None:
    """End an account, and with it all that is signed in by it."""
    with database.atomic():
        Person.update(left_at=datetime.now(UTC), password_hash=None).where(Person.id == person.id).execute()
        sign_out_everywhere(person)
        Token.delete().where(Token.person == person).execute()
        Invitation.delete().where(Invitation.person == person).execute()


def begin_sign_in(person: Person, digest: str, address: str, browser: str) -> None:
    SignIn.create(person=person, digest=digest, address=address, browser=browser[:200])


def find_sign_in(digest: str, idle_for: timedelta, is_use: bool) -> SignIn | None:
    """A sign-in that holds; where it is used, that is written down now and then."""
    now = datetime.now(UTC)
    found: SignIn | None = (
        SignIn.select(SignIn, Person)
        .join(Person)
        .where(SignIn.digest == digest, SignIn.seen_at > now - idle_for, Person.left_at.is_null())
        .first()
    )
    if found and is_use and found.seen_at < now - SEEN_EVERY:
        SignIn.update(seen_at=now).where(SignIn.id == found.id).execute()
    return found


def sign_ins_of(person: Person) -> Sequence[SignIn]:
    return list(SignIn.select().where(SignIn.person == person).order_by(SignIn.seen_at.desc()))


def end_sign_in(digest: str) -> None:
    SignIn.delete().where(SignIn.digest == digest).execute()


def end_sign_in_of(person: Person, sign_in_id: int) -> None:
    """One of somebody's own. Raises NotFoundError."""
    if not SignIn.delete().where(SignIn.person == person, SignIn.id == sign_in_id).execute():
        raise NotFoundError("That browser is not signed in any more.")


def sign_out_everywhere(person: Person) -> None:
    SignIn.delete().where(SignIn.person == person).execute()


def add_token(person: Person, name: str, digest: str) -> Token:
    created: Token = Token.create(person=person, name=name, digest=digest)
    return created


def find_token(digest: str) -> Token | None:
    found: Token | None = (
        Token.select(Token, Person).join(Person).where(Token.digest == digest, Person.left_at.is_null()).first()
    )
    now = datetime.now(UTC)
    if found and (found.used_at is None or found.used_at < now - SEEN_EVERY):
        Token.update(used_at=now).where(Token.id == found.id).execute()
    return found


def tokens_of(person: Person) -> Sequence[Token]:
    return list(Token.select().where(Token.person == person).order_by(Token.id))


def withdraw_token(person: Person, token_id: int) -> None:
    """Raises NotFoundError where it is none of this person's."""
    if not Token.delete().where(Token.person == person, Token.id == token_id).execute():
        raise NotFoundError("There is no such token any more.")


def invite(person: Person, digest: str) -> None:
    """Let somebody choose a password once; an earlier invitation holds no more."""
    with database.atomic():
        Invitation.delete().where(Invitation.person == person).execute()
        Invitation.create(person=person, digest=digest)


def invited(digest: str) -> Person | None:
    """Who an invitation that still holds is for."""
    found = (
        Invitation.select(Invitation, Person)
        .join(Person)
        .where(Invitation.digest == digest, Invitation.made_at > datetime.now(UTC) - INVITED_FOR)
        .where(Person.left_at.is_null())
        .first()
    )
    return found.person if found else None


def note_try(name_key: str, address: str, kept_for: timedelta) -> FailedSignIn:
    """Keep a try as a failed one; those that are older than anybody asks for are forgotten."""
    FailedSignIn.delete().where(FailedSignIn.at < datetime.now(UTC) - kept_for).execute()
    created: FailedSignIn = FailedSignIn.create(name_key=name_key, address=address)
    return created


def forget_try(tried: FailedSignIn) -> None:
    FailedSignIn.delete().where(FailedSignIn.id == tried.id).execute()


def failures(since: datetime, name_key: str | None = None, address: str | None = None) -> list[datetime]:
    """When tries failed, the latest first, by name, address, or both."""
    found = FailedSignIn.select(FailedSignIn.at).where(FailedSignIn.at > since)
    if name_key is not None:
        found = found.where(FailedSignIn.name_key == name_key)
    if address is not None:
        found = found.where(FailedSignIn.address == address)
    return [each.at for each in found.order_by(FailedSignIn.at.desc())]


def forget_failures(name_key: str, address: str) -> None:
    """Who came in has not been guessing."""
    FailedSignIn.delete().where(FailedSignIn.name_key == name_key, FailedSignIn.address == address).execute()
