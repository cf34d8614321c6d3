"""A deliverable is known by its programme, format and channel, not by its place in a list, and by the digest of its
plan. What was there before gets the name that its format has; its plan is compared by its gain, as it was.
"""

import tomllib
from collections import Counter

_ENCODING_OF = {"mp3": "mp3", "m4a": "aac", "ogg": "vorbis", "ac3": "ac3"}
_CONTAINER_OF = {
    "flac": "flac",
    "alac": "m4a",
    "mp3": "mp3",
    "aac": "m4a",
    "vorbis": "ogg",
    "opus": "ogg",
    "ac3": "ac3",
}


def up(migrator, db):
    db.execute_sql("ALTER TABLE deliverable ADD COLUMN output text, ADD COLUMN plan_digest varchar(64)")
    rows = db.execute_sql(
        "SELECT d.id, d.source_id, d.destination_id, d.format_number, d.plan->'format', s.toml"
        " FROM deliverable d JOIN spec_version s ON s.id = d.spec_id"
        " ORDER BY d.source_id, d.destination_id, d.format_number"
    ).fetchall()
    channels, taken = Counter(), set()
    for row_id, source_id, destination_id, number, written, toml in rows:
        key, place = f"1 · {_format_key(toml, number, written)}", (source_id, destination_id)
        if written and written.get("channel"):
            channels[place, key] += 1
            key += f" · {channels[place, key]}"
        if (place, key) in taken:
            db.execute_sql("DELETE FROM deliverable WHERE id = %s", (row_id,))
        else:
            db.execute_sql("UPDATE deliverable SET output = %s WHERE id = %s", (key, row_id))
        taken.add((place, key))
    db.execute_sql("ALTER TABLE deliverable ALTER COLUMN output SET NOT NULL, DROP COLUMN format_number")
    db.execute_sql(
        "CREATE UNIQUE INDEX deliverable_source_id_destination_id_output"
        " ON deliverable (source_id, destination_id, output)"
    )


def down(migrator, db):
    db.execute_sql("ALTER TABLE deliverable ADD COLUMN format_number integer")
    db.execute_sql(
        "UPDATE deliverable d SET format_number = n.number - 1 FROM (SELECT id, row_number() OVER"
        " (PARTITION BY source_id, destination_id ORDER BY id) AS number FROM deliverable) n WHERE n.id = d.id"
    )
    db.execute_sql(
        "ALTER TABLE deliverable ALTER COLUMN format_number SET NOT NULL,"
        " DROP COLUMN output, DROP COLUMN plan_digest,"
        " ADD CONSTRAINT deliverable_source_id_destination_id_format_number_key"
        " UNIQUE (source_id, destination_id, format_number)"
    )


def _format_key(toml, number, written):
    """As a format was written where that is known, else by its place."""
    formats = [_with_defaults(each) for each in tomllib.loads(toml)["formats"]]
    fitting = [each for each in formats if written and _fits(each, written)]
    return _key((fitting or formats[number:] or formats)[0])


def _with_defaults(told):
    container = told.get("container") or _CONTAINER_OF.get(told["encoding"], "wav")
    encoding = told.get("encoding", "keep")
    encoding = _ENCODING_OF.get(container, encoding) if encoding == "keep" else encoding
    return {"sample_rate": "keep", "channels": "keep", "dither": "tpdf", **told} | {
        "container": container,
        "encoding": encoding,
    }


def _fits(asked, written):
    encodings = ("keep", written["encoding"])
    rates = ("keep", written["sample_rate"])
    # What is packed without loss may be asked for by the length of its words.
    packed = written["encoding"] in ("flac", "alac")
    return (
        asked["container"] == written["container"]
        and (packed or asked["encoding"] in encodings)
        and asked["sample_rate"] in rates
        and (written.get("channel") or asked["channels"] in ("keep", written["layout"]))
    )


def _key(asked):
    parts = [asked[name] for name in ("container", "encoding", "sample_rate", "channels", "dither")]
    if asked.get("bitrate_kbps"):
        parts += [f"{float(asked['bitrate_kbps']):g}", asked.get("bitrate_mode", "constant")]
    return " ".join(map(str, parts))
