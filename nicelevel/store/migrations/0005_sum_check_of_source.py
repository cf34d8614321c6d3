"""Whether the stems of a set add up to their leader: kept with the leader, as sentences."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE source ADD COLUMN sum_check jsonb")


def down(migrator, db):
    db.execute_sql("ALTER TABLE source DROP COLUMN sum_check")
