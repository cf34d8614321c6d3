"""A source may have a target of its own at one destination."""


def up(migrator, db):
    db.execute_sql(
        "CREATE TABLE own_target ("
        " id bigserial PRIMARY KEY,"
        " source_id bigint NOT NULL REFERENCES source ON DELETE CASCADE,"
        " destination_id bigint NOT NULL REFERENCES destination ON DELETE CASCADE,"
        " target double precision NOT NULL,"
        " UNIQUE (source_id, destination_id))"
    )


def down(migrator, db):
    db.execute_sql("DROP TABLE own_target")
