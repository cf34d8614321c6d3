"""Each try at a row has a token of its own, and what is to be prepared of a source is kept until it is done."""


def up(migrator, db):
    db.execute_sql("CREATE SEQUENCE try_token")
    for table in ("source", "deliverable", "sending"):
        db.execute_sql(f"ALTER TABLE {table} ADD COLUMN token bigint")
    db.execute_sql("""
        CREATE TABLE preparing (
            digest varchar(64) PRIMARY KEY,
            source_digest varchar(64) NOT NULL,
            steps jsonb NOT NULL,
            state varchar(20) NOT NULL DEFAULT 'queued' CHECK (state in ('queued', 'done', 'failed')),
            error_code varchar(40),
            error_message text
        )
    """)
    db.execute_sql("CREATE INDEX preparing_source_digest ON preparing (source_digest)")


def down(migrator, db):
    db.execute_sql("DROP TABLE preparing")
    for table in ("source", "deliverable", "sending"):
        db.execute_sql(f"ALTER TABLE {table} DROP COLUMN token")
    db.execute_sql("DROP SEQUENCE try_token")
