"""People keep recipes of their own, in versions; what comes into a job may be prepared by rule."""


def up(migrator, db):
    db.execute_sql(
        "CREATE TABLE recipe_version (id bigserial PRIMARY KEY, slug varchar(100) NOT NULL, number integer NOT NULL,"
        " toml text NOT NULL, kept_at timestamptz NOT NULL DEFAULT now(), UNIQUE (slug, number))"
    )
    db.execute_sql("CREATE TABLE recipe_in_trash (slug varchar(100) PRIMARY KEY, trashed_at timestamptz NOT NULL)")
    db.execute_sql(
        "CREATE TABLE intake_rule (id bigserial PRIMARY KEY, job_id bigint NOT NULL REFERENCES job (id)"
        " ON DELETE CASCADE, kind varchar(20) CHECK (kind IN ('lossless', 'coded')),"
        " channels varchar(10) CHECK (channels IN ('one', 'two', 'more')), name_has varchar(100),"
        " recipe varchar(100), mends boolean NOT NULL DEFAULT false, renders boolean NOT NULL DEFAULT false)"
    )
    db.execute_sql(
        "ALTER TABLE source ADD COLUMN is_ruled boolean NOT NULL DEFAULT false,"
        " ADD COLUMN soft_db double precision NOT NULL DEFAULT 0"
    )
    db.execute_sql("UPDATE source SET is_ruled = true")
    db.execute_sql("CREATE INDEX intake_rule_job_id ON intake_rule (job_id)")


def down(migrator, db):
    db.execute_sql("ALTER TABLE source DROP COLUMN is_ruled, DROP COLUMN soft_db")
    db.execute_sql("DROP TABLE intake_rule")
    db.execute_sql("DROP TABLE recipe_in_trash")
    db.execute_sql("DROP TABLE recipe_version")
