"""For many machines: whose turn it is at what one does for all, and what is under way found among a million rows."""


def up(migrator, db):
    db.execute_sql("CREATE TABLE turn (name varchar(40) PRIMARY KEY, taken_at timestamptz NOT NULL)")
    db.execute_sql("CREATE INDEX deliverable_rendering ON deliverable (source_id) WHERE state = 'rendering'")
    db.execute_sql(
        "CREATE INDEX deliverable_queued ON deliverable (source_id, spec_id, output) WHERE state = 'queued'"
    )
    db.execute_sql("CREATE INDEX source_measuring ON source (job_id) WHERE state = 'measuring'")


def down(migrator, db):
    db.execute_sql("DROP INDEX source_measuring")
    db.execute_sql("DROP INDEX deliverable_queued")
    db.execute_sql("DROP INDEX deliverable_rendering")
    db.execute_sql("DROP TABLE turn")
