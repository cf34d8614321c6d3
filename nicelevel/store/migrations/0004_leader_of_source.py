"""A source may be a member of a set: it takes the gain of the set's leader."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE source ADD COLUMN leader_id bigint REFERENCES source ON DELETE SET NULL")
    db.execute_sql("CREATE INDEX source_leader_id ON source (leader_id)")


def down(migrator, db):
    db.execute_sql("ALTER TABLE source DROP COLUMN leader_id")
