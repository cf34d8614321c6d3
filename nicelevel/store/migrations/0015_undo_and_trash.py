"""Every change can be undone: what was taken away lies in the trash, and what stood before a change is kept."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE job ADD COLUMN archived_at timestamptz, ADD COLUMN trashed_at timestamptz")
    db.execute_sql("ALTER TABLE source ADD COLUMN place double precision, ADD COLUMN trashed_at timestamptz")
    db.execute_sql("ALTER TABLE destination ADD COLUMN trashed_at timestamptz")
    db.execute_sql("CREATE TABLE spec_in_trash (slug varchar(100) PRIMARY KEY, trashed_at timestamptz NOT NULL)")
    db.execute_sql(
        "CREATE TABLE change (id bigserial PRIMARY KEY, job_id bigint REFERENCES job (id) ON DELETE CASCADE,"
        " words text NOT NULL, on_list boolean NOT NULL, difference jsonb NOT NULL,"
        " made_at timestamptz NOT NULL DEFAULT now(), undone_at timestamptz)"
    )
    db.execute_sql("CREATE INDEX change_job_id ON change (job_id, id)")


def down(migrator, db):
    db.execute_sql("DROP TABLE change")
    db.execute_sql("DROP TABLE spec_in_trash")
    db.execute_sql("ALTER TABLE destination DROP COLUMN trashed_at")
    db.execute_sql("ALTER TABLE source DROP COLUMN place, DROP COLUMN trashed_at")
    db.execute_sql("ALTER TABLE job DROP COLUMN archived_at, DROP COLUMN trashed_at")
