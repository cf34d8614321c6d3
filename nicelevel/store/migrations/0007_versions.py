"""A source may be one of several versions of a title: when its file was changed, and whether it counts by choice."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE source ADD COLUMN changed_at timestamptz, ADD COLUMN counts boolean")


def down(migrator, db):
    db.execute_sql("ALTER TABLE source DROP COLUMN changed_at, DROP COLUMN counts")
