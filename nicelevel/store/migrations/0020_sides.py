"""Files of one channel become one source: what lies beside each other, and what is asked about them. Contributions
are sent like packages.
"""


def up(migrator, db):
    db.execute_sql("ALTER TABLE source ADD COLUMN sides jsonb")
    db.execute_sql(
        "CREATE TABLE side (id bigserial PRIMARY KEY, digest varchar(64) NOT NULL, place integer NOT NULL,"
        " side_digest varchar(64) NOT NULL, UNIQUE (digest, place))"
    )
    db.execute_sql("ALTER TABLE sending ADD COLUMN contribution jsonb")
    db.execute_sql("CREATE INDEX side_side_digest ON side (side_digest)")


def down(migrator, db):
    db.execute_sql("ALTER TABLE sending DROP COLUMN contribution")
    db.execute_sql("DROP TABLE side")
    db.execute_sql("ALTER TABLE source DROP COLUMN sides")
