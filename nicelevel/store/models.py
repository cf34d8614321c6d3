"""Columns and constraints. Nothing here computes.

What a foreign key holds, its column's own value, is annotated beside it.
"""

from typing import Any

from peewee import (
    SQL,
    BigAutoField,
    BigIntegerField,
    BooleanField,
    CharField,
    Check,
    DateField,
    DoubleField,
    ForeignKeyField,
    IntegerField,
    Model,
    TextField,
)
from playhouse.postgres_ext import BinaryJSONField, DateTimeTZField

from .database import database

LONGEST_TITLE = 200
"""In letters; a longer one is cut."""

SOURCE_STATES = ("queued", "measuring", "measured", "failed")
DELIVERABLE_STATES = ("queued", "rendering", "proved", "missed", "failed", "stopped")
SET_KINDS = ("sum", "album")
PREPARING_STATES = ("queued", "done", "failed")
SENDING_STATES = ("queued", "sending", "checking", "accepted", "rejected", "failed", "stopped")
ARRIVAL_STATES = ("whole", "working", "published", "noted", "same", "held", "gone", "missing")
TELLING_STATES = ("waiting", "answered", "given_up")
RULE_KINDS = ("lossless", "coded")
RULE_CHANNELS = ("one", "two", "more")


def _one_of(column: str, values: tuple[str, ...]) -> Any:
    listed = ", ".join(f"'{value}'" for value in values)
    return Check(f"{column} in ({listed})")


class _Table(Model):
    class Meta:
        database = database
        legacy_table_names = False


class Job(_Table):
    """One client's work."""

    id = BigAutoField()
    title = CharField(max_length=LONGEST_TITLE)
    due_on = DateField(null=True)
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    archived_at = DateTimeTZField(null=True)
    trashed_at = DateTimeTZField(null=True)


class Reading(_Table):
    """All that was measured of a file's contents, named by their digest; its curves lie beside the audio."""

    digest = CharField(max_length=64, primary_key=True)
    meter_version = IntegerField()
    figures = BinaryJSONField(index=False)
    measured_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


class Source(_Table):
    """A file taken into a job.

    recipe_json: steps that are done to it first, in the words of `core.steps.table`; soft_db:
    what is wished of every destination's limiter; is_ruled: the rules of its job
    were asked for it, and are not again.
    """

    id = BigAutoField()
    job = ForeignKeyField(Job, backref="sources", on_delete="CASCADE")
    job_id: int
    file_name = CharField(max_length=255)
    title = CharField(max_length=255)
    kind = CharField(max_length=20, default="mix")
    digest = CharField(max_length=64, index=True)
    size_bytes = BigIntegerField()
    state = CharField(max_length=20, default="queued", constraints=[_one_of("state", SOURCE_STATES)])
    token = BigIntegerField(null=True)
    progress_ratio = DoubleField(default=0.0)
    error_code = CharField(max_length=40, null=True)
    error_message = TextField(null=True)
    leader = ForeignKeyField("self", null=True, backref="members", on_delete="SET NULL")
    leader_id: int | None
    set_kind = CharField(max_length=10, null=True, constraints=[_one_of("set_kind", SET_KINDS)])
    sum_check = BinaryJSONField(null=True, index=False)
    proposal = BinaryJSONField(null=True, index=False)
    sides = BinaryJSONField(null=True, index=False)
    replaces = ForeignKeyField("self", null=True, backref="+", on_delete="SET NULL")
    replaces_id: int | None
    added_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    changed_at = DateTimeTZField(null=True)
    counts = BooleanField(null=True)
    place = DoubleField(null=True)
    recipe_json = TextField(null=True)
    recipe_name = CharField(max_length=80, null=True)
    soft_db = DoubleField(default=0.0)
    is_ruled = BooleanField(default=False)
    trashed_at = DateTimeTZField(null=True)


class Side(_Table):
    """Of contents that are several files side by side: the contents of one of them, and which channel it is."""

    id = BigAutoField()
    digest = CharField(max_length=64)
    place = IntegerField()
    side_digest = CharField(max_length=64, index=True)

    class Meta:
        indexes = ((("digest", "place"), True),)


class Preparing(_Table):
    """A prepared signal of some contents by its digest: still to be made, there, or why it could not be made."""

    digest = CharField(max_length=64, primary_key=True)
    source_digest = CharField(max_length=64, index=True)
    steps = BinaryJSONField(index=False)
    state = CharField(max_length=20, default="queued", constraints=[_one_of("state", PREPARING_STATES)])
    error_code = CharField(max_length=40, null=True)
    error_message = TextField(null=True)


class StepFound(_Table):
    """What a step heard in some contents, by the digest of these and of all steps up to it."""

    digest = CharField(max_length=64, primary_key=True)
    source_digest = CharField(max_length=64, index=True)
    found = BinaryJSONField(index=False)


class SpecVersion(_Table):
    """A spec as it stood at one time; never changed, so that an old proof shows what it was judged by."""

    id = BigAutoField()
    slug = CharField(max_length=100)
    digest = CharField(max_length=64, unique=True)
    toml = TextField()
    kept_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


class Destination(_Table):
    """A spec in a job's board."""

    id = BigAutoField()
    job = ForeignKeyField(Job, backref="destinations", on_delete="CASCADE")
    job_id: int
    spec = ForeignKeyField(SpecVersion, on_delete="RESTRICT")
    spec_id: int
    place = IntegerField()
    reference = ForeignKeyField(Source, null=True, on_delete="SET NULL", backref="+")
    reference_id: int | None
    trashed_at = DateTimeTZField(null=True)

    class Meta:
        indexes = ((("job", "spec"), True),)


class OwnTarget(_Table):
    """The target of one source at one destination, where it is not that of the spec."""

    id = BigAutoField()
    source = ForeignKeyField(Source, on_delete="CASCADE")
    source_id: int
    destination = ForeignKeyField(Destination, on_delete="CASCADE")
    destination_id: int
    target = DoubleField()

    class Meta:
        indexes = ((("source", "destination"), True),)


class Deliverable(_Table):
    """One file of a source at a destination: queued, rendered, proved.

    output: its programme, format and channel (`OutputFormat.key`); plan, plan_digest: what was asked for when it was
    queued, then what was written.
    """

    id = BigAutoField()
    source = ForeignKeyField(Source, backref="deliverables", on_delete="CASCADE")
    source_id: int
    destination = ForeignKeyField(Destination, backref="deliverables", on_delete="CASCADE")
    destination_id: int
    spec = ForeignKeyField(SpecVersion, on_delete="RESTRICT")
    spec_id: int
    output = TextField()
    state = CharField(max_length=20, default="queued", constraints=[_one_of("state", DELIVERABLE_STATES)])
    token = BigIntegerField(null=True)
    progress_ratio = DoubleField(default=0.0)
    error_code = CharField(max_length=40, null=True)
    error_message = TextField(null=True)
    file_name = TextField(null=True)
    sha256 = CharField(max_length=64, null=True)
    size_bytes = BigIntegerField(null=True)
    plan = BinaryJSONField(null=True, index=False)
    plan_digest = CharField(max_length=64, null=True)
    measured = BinaryJSONField(null=True, index=False)
    findings = BinaryJSONField(null=True, index=False)
    queued_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    started_at = DateTimeTZField(null=True)
    finished_at = DateTimeTZField(null=True)

    class Meta:
        indexes = ((("source", "destination", "output"), True),)


class Sending(_Table):
    """A package on its way to a receiver: what was in it, and what was answered.

    contribution: of several files that go as one instead: which, and what that is to say; None for the package.
    """

    id = BigAutoField()
    job = ForeignKeyField(Job, backref="sendings", on_delete="CASCADE")
    job_id: int
    address = TextField()
    contribution = BinaryJSONField(null=True, index=False)
    state = CharField(max_length=20, default="queued", constraints=[_one_of("state", SENDING_STATES)])
    token = BigIntegerField(null=True)
    progress_ratio = DoubleField(default=0.0)
    contents = BinaryJSONField(null=True, index=False)
    receipt = TextField(null=True)
    answer = BinaryJSONField(null=True, index=False)
    error_message = TextField(null=True)
    queued_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    finished_at = DateTimeTZField(null=True)


class BlindTest(_Table):
    """A blind comparison of two things that a source can be heard as; of each trial what it hid and what was said."""

    id = BigAutoField()
    source = ForeignKeyField(Source, on_delete="CASCADE")
    source_id: int
    one = CharField(max_length=60)
    other = CharField(max_length=60)
    one_name = TextField()
    other_name = TextField()
    gains_db = BinaryJSONField(index=False)
    trials = BinaryJSONField(default=list, index=False)
    begun_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


class VersionDifference(_Table):
    """What differs between two contents, by the method with this number: found, or why it could not be."""

    id = BigAutoField()
    older_digest = CharField(max_length=64)
    newer_digest = CharField(max_length=64)
    method = IntegerField()
    found = BinaryJSONField(null=True, index=False)
    error_message = TextField(null=True)

    class Meta:
        indexes = ((("older_digest", "newer_digest"), True),)


class SpecInTrash(_Table):
    """An own spec that was thrown away; its versions stay, for what was proved by them."""

    slug = CharField(max_length=100, primary_key=True)
    trashed_at = DateTimeTZField()


class RecipeVersion(_Table):
    """An own recipe as it stood at one time; never changed, so that it can be told what a source was prepared by."""

    id = BigAutoField()
    slug = CharField(max_length=100)
    number = IntegerField()
    toml = TextField()
    kept_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])

    class Meta:
        indexes = ((("slug", "number"), True),)


class RecipeInTrash(_Table):
    """An own recipe that was thrown away; what it was given to keeps its steps."""

    slug = CharField(max_length=100, primary_key=True)
    trashed_at = DateTimeTZField()


class IntakeRule(_Table):
    """What is prepared by itself once it came into a job and was measured.

    kind, channels, name_has: conditions, None for any; recipe: the slug of one, None for none; mends: what is noted,
    before that; renders: what lands of it.
    """

    id = BigAutoField()
    job = ForeignKeyField(Job, backref="rules", on_delete="CASCADE")
    job_id: int
    kind = CharField(max_length=20, null=True, constraints=[_one_of("kind", RULE_KINDS)])
    channels = CharField(max_length=10, null=True, constraints=[_one_of("channels", RULE_CHANNELS)])
    name_has = CharField(max_length=100, null=True)
    recipe = CharField(max_length=100, null=True)
    mends = BooleanField(default=False)
    renders = BooleanField(default=False)


class Change(_Table):
    """What a person changed, in words and as it was before and after; of a job, or of the specs.

    on_list: whether it concerns the job as a whole, so that it is undone on the list of jobs too.
    """

    id = BigAutoField()
    job = ForeignKeyField(Job, null=True, on_delete="CASCADE")
    job_id: int | None
    words = TextField()
    on_list = BooleanField()
    difference = BinaryJSONField(index=False)
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    undone_at = DateTimeTZField(null=True)


class Line(_Table):
    """A line that somebody drew: from a folder to what is published. told: its settings, by `core.arrivals`."""

    id = BigAutoField()
    told = BinaryJSONField(index=False)
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])
    trouble = TextField(null=True)
    trashed_at = DateTimeTZField(null=True)


class Arrival(_Table):
    """What came into a line's folder, or should have.

    mark: size, time and number of the file, so that it is the same once only; under: the name that it is published
    under; expected_at: the time that it is for; told: what happened, each with when and in which words; figures: of
    what came and of what was made; files: the names of what is kept of both; is_forced: published whatever it is
    like.
    """

    id = BigAutoField()
    line = ForeignKeyField(Line, backref="arrivals", on_delete="CASCADE")
    line_id: int
    name = TextField()
    mark = CharField(max_length=80)
    size_bytes = BigIntegerField(default=0)
    state = CharField(max_length=20, default="whole", constraints=[_one_of("state", ARRIVAL_STATES)])
    token = BigIntegerField(null=True)
    arrived_at = DateTimeTZField(index=True)
    finished_at = DateTimeTZField(null=True)
    expected_at = DateTimeTZField(null=True)
    is_late = BooleanField(default=False)
    is_forced = BooleanField(default=False)
    under = TextField(null=True)
    published = BinaryJSONField(default=list, index=False)
    error_code = CharField(max_length=40, null=True)
    error_message = TextField(null=True)
    figures = BinaryJSONField(default=dict, index=False)
    files = BinaryJSONField(default=dict, index=False)
    told = BinaryJSONField(default=list, index=False)

    class Meta:
        indexes = ((("line", "name", "mark"), True),)


class Telling(_Table):
    """A sentence that an address is told. state: waiting, answered, given up; said: what was answered, in words."""

    id = BigAutoField()
    line = ForeignKeyField(Line, on_delete="CASCADE")
    line_id: int
    arrival = ForeignKeyField(Arrival, null=True, on_delete="SET NULL")
    arrival_id: int | None
    address = TextField()
    told = BinaryJSONField(index=False)
    state = CharField(max_length=20, default="waiting", constraints=[_one_of("state", TELLING_STATES)])
    tries = IntegerField(default=0)
    said = TextField(null=True)
    made_at = DateTimeTZField(constraints=[SQL("DEFAULT now()")])


TABLES = (
    Job,
    Reading,
    Source,
    Preparing,
    StepFound,
    SpecVersion,
    Destination,
    OwnTarget,
    Deliverable,
    Sending,
    BlindTest,
    VersionDifference,
    SpecInTrash,
    RecipeVersion,
    RecipeInTrash,
    IntakeRule,
    Change,
    Line,
    Arrival,
    Telling,
)
