"""What is joined, split and measured by programme, as the JSON of the command line's contract."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from nicelevel.core.contribution import Contributed
from nicelevel.core.programmes import Joined, Programme, Split
from nicelevel.core.values import Reading

from .as_json import reading_json

Json = dict[str, Any]


def programme_json(programme: Programme) -> Json:
    return {"label": programme.label, "layout": programme.layout.name, "channels": list(programme.channels)}


def joined_json(joined: Joined, paths: Sequence[Path]) -> Json:
    """The answer of `join`."""
    output = joined.output
    return {
        "path": str(joined.path),
        "sha256": joined.sha256,
        "frames": joined.frames,
        "sample_rate": output.sample_rate_hz,
        "encoding": output.encoding,
        "programmes": [programme_json(each) | {"from": str(paths[number])} for each, number in joined.programmes],
        "notes": list(joined.notes),
    }


def contributed_json(made: Contributed, paths: Sequence[Path]) -> Json:
    """The answer of `join` for a contribution; guard and time reference in samples."""
    answer = joined_json(made.joined, paths)
    for programme, levels in zip(answer["programmes"], made.levels, strict=True):
        programme["stated"] = dict(levels.figures)
    return answer | {
        "configuration": made.configuration,
        "frame_rate": made.rate.name,
        "start": made.start,
        "guard_frames": made.guard_frames,
        "time_reference": made.time_reference,
    }


def split_json(split: Split) -> Json:
    """The answer of `split`."""
    parts = [programme_json(each.programme) | {"path": str(each.path), "sha256": each.sha256} for each in split.parts]
    return {"path": str(split.path), "programmes": parts, "notes": list(split.notes)}


def measured_programme_json(programme: Programme, reading: Reading) -> Json:
    """A programme with every key of `measure`, but for the file's own path and size."""
    measured = reading_json(reading)
    return {key: value for key, value in measured.items() if key not in ("path", "size_bytes")} | programme_json(
        programme
    )
