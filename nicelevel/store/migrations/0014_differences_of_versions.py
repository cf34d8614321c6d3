"""What differs between two versions, sample by sample: found once for two contents, when somebody asks."""


def up(migrator, db):
    db.execute_sql(
        "CREATE TABLE version_difference (id bigserial PRIMARY KEY, older_digest varchar(64) NOT NULL,"
        " newer_digest varchar(64) NOT NULL, method integer NOT NULL, found jsonb, error_message text,"
        " UNIQUE (older_digest, newer_digest))"
    )


def down(migrator, db):
    db.execute_sql("DROP TABLE version_difference")
