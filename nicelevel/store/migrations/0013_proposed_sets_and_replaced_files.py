"""Sets that names propose are held against their sum before anybody asks; a file may stand for an earlier one."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE source ADD COLUMN proposal jsonb")
    db.execute_sql("ALTER TABLE source ADD COLUMN replaces_id bigint REFERENCES source (id) ON DELETE SET NULL")
    db.execute_sql("CREATE INDEX source_replaces_id ON source (replaces_id)")


def down(migrator, db):
    db.execute_sql("ALTER TABLE source DROP COLUMN proposal")
    db.execute_sql("ALTER TABLE source DROP COLUMN replaces_id")
