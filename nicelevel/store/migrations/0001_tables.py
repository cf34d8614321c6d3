"""The first tables. Frozen: later changes come as migrations of their own."""

_TABLES = """
CREATE TABLE job (
    id bigserial PRIMARY KEY,
    title varchar(200) NOT NULL,
    due_on date,
    made_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE reading (
    digest varchar(64) PRIMARY KEY,
    meter_version integer NOT NULL,
    figures jsonb NOT NULL,
    measured_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE source (
    id bigserial PRIMARY KEY,
    job_id bigint NOT NULL REFERENCES job ON DELETE CASCADE,
    file_name varchar(255) NOT NULL,
    title varchar(255) NOT NULL,
    kind varchar(20) NOT NULL,
    digest varchar(64) NOT NULL,
    size_bytes bigint NOT NULL,
    state varchar(20) NOT NULL CHECK (state IN ('queued', 'measuring', 'measured', 'failed')),
    progress_ratio double precision NOT NULL,
    error_code varchar(40),
    error_message text,
    added_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX source_job_id ON source (job_id);
CREATE INDEX source_digest ON source (digest);
CREATE TABLE spec_version (
    id bigserial PRIMARY KEY,
    slug varchar(100) NOT NULL,
    digest varchar(64) NOT NULL UNIQUE,
    toml text NOT NULL,
    kept_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE destination (
    id bigserial PRIMARY KEY,
    job_id bigint NOT NULL REFERENCES job ON DELETE CASCADE,
    spec_id bigint NOT NULL REFERENCES spec_version ON DELETE RESTRICT,
    place integer NOT NULL,
    UNIQUE (job_id, spec_id)
);
CREATE TABLE deliverable (
    id bigserial PRIMARY KEY,
    source_id bigint NOT NULL REFERENCES source ON DELETE CASCADE,
    destination_id bigint NOT NULL REFERENCES destination ON DELETE CASCADE,
    format_number integer NOT NULL,
    state varchar(20) NOT NULL
        CHECK (state IN ('queued', 'rendering', 'proved', 'missed', 'failed', 'stopped')),
    progress_ratio double precision NOT NULL,
    error_code varchar(40),
    error_message text,
    file_name varchar(255),
    sha256 varchar(64),
    size_bytes bigint,
    plan jsonb,
    measured jsonb,
    findings jsonb,
    queued_at timestamptz NOT NULL DEFAULT now(),
    finished_at timestamptz,
    UNIQUE (source_id, destination_id, format_number)
);
CREATE INDEX deliverable_destination_id ON deliverable (destination_id);
"""


def up(migrator, db):
    for statement in _TABLES.strip().rstrip(";").split(";\n"):
        db.execute_sql(statement)


def down(migrator, db):
    db.execute_sql("DROP TABLE deliverable, destination, spec_version, source, reading, job")
