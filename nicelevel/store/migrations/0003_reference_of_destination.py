"""A destination may have one source as its reference: the others are brought to it, it is left as it is."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE destination ADD COLUMN reference_id bigint REFERENCES source ON DELETE SET NULL")


def down(migrator, db):
    db.execute_sql("ALTER TABLE destination DROP COLUMN reference_id")
