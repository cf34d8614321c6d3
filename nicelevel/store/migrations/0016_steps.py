"""Preparing is steps in any order, some of which listen first. What was prepared is made again by itself."""


def up(migrator, db):
    db.execute_sql("DELETE FROM preparing")
    db.execute_sql(
        "CREATE TABLE step_found (digest varchar(64) PRIMARY KEY, source_digest varchar(64) NOT NULL,"
        " found jsonb NOT NULL)"
    )
    db.execute_sql("CREATE INDEX step_found_source_digest ON step_found (source_digest)")
    # What waits on the queue was asked for in the words of before.
    if db.execute_sql("SELECT to_regclass('procrastinate_jobs')").fetchone()[0]:
        db.execute_sql("DELETE FROM procrastinate_jobs WHERE task_name = 'prepare_source'")


def down(migrator, db):
    db.execute_sql("DELETE FROM preparing")
    db.execute_sql("DROP TABLE step_found")
