"""Blind comparisons are kept with their job: what was compared, and each trial with its answer."""


def up(migrator, db):
    db.execute_sql("""
        CREATE TABLE blind_test (
            id bigserial PRIMARY KEY,
            source_id bigint NOT NULL REFERENCES source ON DELETE CASCADE,
            one varchar(60) NOT NULL,
            other varchar(60) NOT NULL,
            one_name text NOT NULL,
            other_name text NOT NULL,
            gains_db jsonb NOT NULL,
            trials jsonb NOT NULL DEFAULT '[]',
            begun_at timestamptz NOT NULL DEFAULT now()
        )
    """)
    db.execute_sql("CREATE INDEX blind_test_source_id ON blind_test (source_id)")


def down(migrator, db):
    db.execute_sql("DROP TABLE blind_test")
