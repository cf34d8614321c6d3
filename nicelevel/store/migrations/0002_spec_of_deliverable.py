"""A deliverable keeps the version of the spec that it was made for, whatever its destination becomes."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE deliverable ADD COLUMN spec_id bigint REFERENCES spec_version ON DELETE RESTRICT")
    db.execute_sql(
        "UPDATE deliverable SET spec_id = destination.spec_id FROM destination WHERE destination.id = destination_id"
    )
    db.execute_sql("ALTER TABLE deliverable ALTER COLUMN spec_id SET NOT NULL")
    db.execute_sql("CREATE INDEX spec_version_slug ON spec_version (slug)")


def down(migrator, db):
    db.execute_sql("DROP INDEX spec_version_slug")
    db.execute_sql("ALTER TABLE deliverable DROP COLUMN spec_id")
