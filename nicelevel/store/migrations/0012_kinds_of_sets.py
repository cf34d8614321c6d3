"""What a set is, at its leader: a sum and its parts, which share a curve, or an album, whose tracks share a gain.

Of older sets that is told from what was found: what was held against its leader was linked as a mix and its stems.
"""


def up(migrator, db):
    db.execute_sql("ALTER TABLE source ADD COLUMN set_kind varchar(10) CHECK (set_kind in ('sum', 'album'))")
    db.execute_sql(
        "UPDATE source SET set_kind = CASE WHEN kind = 'sum' OR sum_check IS NOT NULL THEN 'sum' ELSE 'album' END"
        " WHERE id IN (SELECT leader_id FROM source WHERE leader_id IS NOT NULL)"
    )


def down(migrator, db):
    db.execute_sql("ALTER TABLE source DROP COLUMN set_kind")
