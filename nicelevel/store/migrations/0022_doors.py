"""People, their ways in, the journal of what was changed, what clients are shown and what they say of it."""


def up(migrator, db):
    db.execute_sql(
        "CREATE TABLE person (id bigserial PRIMARY KEY, name varchar(60) NOT NULL, name_key varchar(120) NOT NULL,"
        " roles varchar(60) NOT NULL, password_hash text, made_at timestamptz NOT NULL DEFAULT now(),"
        " left_at timestamptz)"
    )
    # Who left keeps the name in the journal; somebody else may have it from then on.
    db.execute_sql("CREATE UNIQUE INDEX person_name_key ON person (name_key) WHERE left_at IS NULL")
    db.execute_sql(
        "CREATE TABLE sign_in (id bigserial PRIMARY KEY, digest varchar(64) NOT NULL UNIQUE,"
        " person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE, address text NOT NULL,"
        " browser text NOT NULL,"
        " begun_at timestamptz NOT NULL DEFAULT now(), seen_at timestamptz NOT NULL DEFAULT now())"
    )
    db.execute_sql("CREATE INDEX sign_in_person_id ON sign_in (person_id)")
    db.execute_sql(
        "CREATE TABLE failed_sign_in (id bigserial PRIMARY KEY, name_key varchar(120) NOT NULL,"
        " address text NOT NULL, at timestamptz NOT NULL DEFAULT now())"
    )
    db.execute_sql("CREATE INDEX failed_sign_in_at ON failed_sign_in (at)")
    db.execute_sql(
        "CREATE TABLE token (id bigserial PRIMARY KEY, digest varchar(64) NOT NULL UNIQUE,"
        " person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE, name varchar(60) NOT NULL,"
        " made_at timestamptz NOT NULL DEFAULT now(), used_at timestamptz)"
    )
    db.execute_sql("CREATE INDEX token_person_id ON token (person_id)")
    db.execute_sql(
        "CREATE TABLE invitation (id bigserial PRIMARY KEY, digest varchar(64) NOT NULL UNIQUE,"
        " person_id bigint NOT NULL REFERENCES person ON DELETE CASCADE, made_at timestamptz NOT NULL DEFAULT now())"
    )
    db.execute_sql("CREATE INDEX invitation_person_id ON invitation (person_id)")
    db.execute_sql(
        "CREATE TABLE journal_entry (id bigserial PRIMARY KEY, job_id bigint REFERENCES job ON DELETE CASCADE,"
        " who varchar(120) NOT NULL, words text NOT NULL, at timestamptz NOT NULL DEFAULT now())"
    )
    db.execute_sql("CREATE INDEX journal_entry_job_id ON journal_entry (job_id, id)")
    db.execute_sql(
        "CREATE TABLE client_link (id bigserial PRIMARY KEY, job_id bigint NOT NULL REFERENCES job ON DELETE CASCADE,"
        " nonce varchar(64) NOT NULL, client varchar(60) NOT NULL, files jsonb NOT NULL, may_fetch boolean NOT NULL,"
        " made_at timestamptz NOT NULL DEFAULT now(), made_by varchar(120) NOT NULL, expires_at timestamptz NOT NULL,"
        " withdrawn_at timestamptz, seen_at timestamptz)"
    )
    db.execute_sql("CREATE INDEX client_link_job_id ON client_link (job_id)")
    db.execute_sql(
        "CREATE TABLE client_answer (id bigserial PRIMARY KEY,"
        " link_id bigint NOT NULL REFERENCES client_link ON DELETE CASCADE, sha256 varchar(64) NOT NULL,"
        " verdict varchar(10) NOT NULL CHECK (verdict in ('accepted', 'change')), note text NOT NULL,"
        " from_s double precision, at timestamptz NOT NULL DEFAULT now())"
    )
    db.execute_sql("CREATE INDEX client_answer_link_id ON client_answer (link_id)")


def down(migrator, db):
    tables = "client_answer client_link journal_entry invitation token failed_sign_in sign_in person"
    for table in tables.split():
        db.execute_sql(f"DROP TABLE {table}")
