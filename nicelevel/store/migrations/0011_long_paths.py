"""The path of a deliverable has the folders of its pattern before it, and may be as long as they are."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE deliverable ALTER COLUMN file_name TYPE text")


def down(migrator, db):
    db.execute_sql("ALTER TABLE deliverable ALTER COLUMN file_name TYPE varchar(255)")
