"""What one process does for all: when it was last somebody's turn."""


def up(migrator, db):
    db.execute_sql("CREATE TABLE turn (name varchar(40) PRIMARY KEY, taken_at timestamptz NOT NULL)")


def down(migrator, db):
    db.execute_sql("DROP TABLE turn")
