"""A package is sent to a receiver, whose answer is kept; and rendering remembers when it began."""


def up(migrator, db):
    db.execute_sql("""
        CREATE TABLE sending (
            id bigserial PRIMARY KEY,
            job_id bigint NOT NULL REFERENCES job ON DELETE CASCADE,
            address text NOT NULL,
            state varchar(20) NOT NULL DEFAULT 'queued'
                CHECK (state in ('queued', 'sending', 'checking', 'accepted', 'rejected', 'failed', 'stopped')),
            progress_ratio double precision NOT NULL DEFAULT 0,
            contents jsonb,
            receipt text,
            answer jsonb,
            error_message text,
            queued_at timestamptz NOT NULL DEFAULT now(),
            finished_at timestamptz
        )
    """)
    db.execute_sql("CREATE INDEX sending_job_id ON sending (job_id)")
    db.execute_sql("ALTER TABLE deliverable ADD COLUMN started_at timestamptz")


def down(migrator, db):
    db.execute_sql("ALTER TABLE deliverable DROP COLUMN started_at")
    db.execute_sql("DROP TABLE sending")
