"""Lines, what came into their folders, and what is told of that."""


def up(migrator, db):
    db.execute_sql(
        "CREATE TABLE line (id bigserial PRIMARY KEY, told jsonb NOT NULL,"
        " made_at timestamptz NOT NULL DEFAULT now(), trouble text, trashed_at timestamptz)"
    )
    db.execute_sql(
        "CREATE TABLE arrival (id bigserial PRIMARY KEY,"
        " line_id bigint NOT NULL REFERENCES line ON DELETE CASCADE, name text NOT NULL, mark varchar(80) NOT NULL,"
        " size_bytes bigint NOT NULL, state varchar(20) NOT NULL CHECK (state in ('whole', 'working', 'published',"
        " 'noted', 'same', 'held', 'gone', 'missing')), token bigint, arrived_at timestamptz NOT NULL,"
        " finished_at timestamptz, expected_at timestamptz, is_late boolean NOT NULL, is_forced boolean NOT NULL,"
        " under text, published jsonb NOT NULL, error_code varchar(40), error_message text, figures jsonb NOT NULL,"
        " files jsonb NOT NULL, told jsonb NOT NULL, UNIQUE (line_id, name, mark))"
    )
    db.execute_sql("CREATE INDEX arrival_line_at ON arrival (line_id, arrived_at)")
    db.execute_sql("CREATE INDEX arrival_arrived_at ON arrival (arrived_at)")
    db.execute_sql(
        "CREATE TABLE telling (id bigserial PRIMARY KEY, line_id bigint NOT NULL REFERENCES line ON DELETE CASCADE,"
        " arrival_id bigint REFERENCES arrival ON DELETE SET NULL, address text NOT NULL, told jsonb NOT NULL,"
        " state varchar(20) NOT NULL CHECK (state in ('waiting', 'answered', 'given_up')), tries integer NOT NULL,"
        " said text, made_at timestamptz NOT NULL DEFAULT now())"
    )
    db.execute_sql("CREATE INDEX telling_arrival_id ON telling (arrival_id)")
    db.execute_sql("CREATE INDEX telling_line_id ON telling (line_id)")


def down(migrator, db):
    for table in ("telling", "arrival", "line"):
        db.execute_sql(f"DROP TABLE {table}")
