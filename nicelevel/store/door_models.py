"""Columns of who may come in, of what was done by whom, and of what clients are shown. Nothing here computes."""

from peewee import (
    SQL,
    BigAutoField,
    BooleanField,
    CharField,
    DoubleField,
    ForeignKeyField,
    TextField,
)
from playhouse.postgres_ext import BinaryJSONField, DateTimeTZField

from .models import Job, _one_of, _Table

LONGEST_NAME = 60
VERDICTS = ("accepted", "change")


class Person(_Table):
    """Somebody with an account. name_key: the name as it is compared; roles: with spaces between them."""

    id = BigAutoField()
    name = CharField(max_length=LONGEST_NAME)
    name_key = CharField(max_length=120)
    roles = CharField(max_length=60)
    password_hash = TextField(null=True)
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    left_at = DateTimeTZField(null=True)


class SignIn(_Table):
    """A browser that somebody is signed in with, by the digest of the token that it was given."""

    id = BigAutoField()
    digest = CharField(max_length=64, unique=True)
    person = ForeignKeyField(Person, backref="sign_ins", on_delete="CASCADE")
    person_id: int
    address = TextField()
    browser = TextField()
    begun_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    seen_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


class FailedSignIn(_Table):
    """A try with a wrong name or password; a name that nobody has counts like one that somebody has."""

    id = BigAutoField()
    name_key = CharField(max_length=120)
    address = TextField()
    at = DateTimeTZField(constraints=[SQL("DEFAULT now()")], index=True)


class Token(_Table):
    """What a program of somebody's signs in with, by its digest."""

    id = BigAutoField()
    digest = CharField(max_length=64, unique=True)
    person = ForeignKeyField(Person, backref="tokens", on_delete="CASCADE")
    person_id: int
    name = CharField(max_length=LONGEST_NAME)
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    used_at = DateTimeTZField(null=True)


class Invitation(_Table):
    """Leave to choose a password once, by the digest of what is in its address."""

    id = BigAutoField()
    digest = CharField(max_length=64, unique=True)
    person = ForeignKeyField(Person, backref="invitations", on_delete="CASCADE")
    person_id: int
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


class JournalEntry(_Table):
    """A change: who, when, in words. Without a job it is one of the house: specs, recipes, lines, people."""

    id = BigAutoField()
    job = ForeignKeyField(Job, null=True, on_delete="CASCADE")
    job_id: int | None
    who = CharField(max_length=120)
    words = TextField()
    at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


class ClientLink(_Table):
    """Leave to look at some files of a job. files: which, each with its SHA-256, as they were when it was made."""

    id = BigAutoField()
    job = ForeignKeyField(Job, backref="links", on_delete="CASCADE")
    job_id: int
    nonce = CharField(max_length=64)
    client = CharField(max_length=LONGEST_NAME)
    files = BinaryJSONField(index=False)
    may_fetch = BooleanField()
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    made_by = CharField(max_length=120)
    expires_at = DateTimeTZField()
    withdrawn_at = DateTimeTZField(null=True)
    seen_at = DateTimeTZField(null=True)


class ClientAnswer(_Table):
    """What a client said of one file, by its SHA-256. from_s: the time that a note is about."""

    id = BigAutoField()
    link = ForeignKeyField(ClientLink, backref="answers", on_delete="CASCADE")
    link_id: int
    sha256 = CharField(max_length=64)
    verdict = CharField(max_length=10, constraints=[_one_of("verdict", VERDICTS)])
    note = TextField()
    from_s = DoubleField(null=True)
    at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


DOOR_TABLES = (Person, SignIn, FailedSignIn, Token, Invitation, JournalEntry, ClientLink, ClientAnswer)
