"""A source may have a recipe: steps that are done to it before all that a destination asks for, and their name."""


def up(migrator, db):
    db.execute_sql("ALTER TABLE source ADD COLUMN recipe_json text, ADD COLUMN recipe_name varchar(80)")


def down(migrator, db):
    db.execute_sql("ALTER TABLE source DROP COLUMN recipe_json, DROP COLUMN recipe_name")
