"""Prepared signals: readings and hops under the digest of source and steps, made in the background, remembered."""

from contextlib import suppress
from dataclasses import replace
from functools import lru_cache
from typing import Any

from nicelevel.core.channels import Layout
from nicelevel.core.errors import NiceLevelError, NotPreparedError
from nicelevel.core.plan.formats import possible_formats
from nicelevel.core.prepare import UNTOUCHED, Find, Prepared, preparation_for
from nicelevel.core.prepare.prepared import prepared_source
from nicelevel.core.specs import Spec
from nicelevel.core.values import Preparation
from nicelevel.core.values import Source as Described

from .audio import AudioFolder
from .models import Preparing
from .readings import is_measured, load_reading


class PreparationFailedError(NiceLevelError):
    """A prepared signal could not be made, after some tries."""

    code = "preparation_failed"


REMEMBERED = 128
"""Prepared signals whose curves stay in memory: about a megabyte for ten minutes each."""


def prepared_signals(digest: str, audio: AudioFolder) -> Find:
    """What gives the prepared signals of the source with this digest."""

    def find(preparation: Preparation) -> Prepared:
        return load_prepared(digest, preparation, audio)

    return find


def nearly_prepared(digest: str, audio: AudioFolder) -> Find:
    """The same, but where only resampling is still to be done, the figures of the source: good enough for a draft."""

    def find(preparation: Preparation) -> Prepared:
        try:
            return load_prepared(digest, preparation, audio)
        except NotPreparedError:
            if replace(preparation, sample_rate_hz=None) != UNTOUCHED:
                raise
            near = load_prepared(digest, UNTOUCHED, audio)
            described = prepared_source(near.reading.source, preparation)
            return replace(near, reading=replace(near.reading, source=described), preparation=preparation)

    return find


@lru_cache(maxsize=REMEMBERED)
def load_prepared(digest: str, preparation: Preparation, audio: AudioFolder) -> Prepared:
    """A prepared signal with its curves and hops. Raises NotPreparedError where it is still to be made."""
    prepared_digest = preparation.digest_of(digest)
    if not is_measured(prepared_digest):
        raise _why_missing(prepared_digest, preparation)
    return Prepared(load_reading(prepared_digest, audio), audio.load_hops(prepared_digest), preparation)


def _why_missing(prepared_digest: str, preparation: Preparation) -> NiceLevelError:
    failed = Preparing.get_or_none(Preparing.digest == prepared_digest, Preparing.state == "failed")
    if failed:
        return PreparationFailedError(f"{_being_done(preparation, 'It could not be')}: {failed.error_message}")
    return NotPreparedError(f"{_being_done(preparation)} and measured; its plan follows.")


def begin_preparation(source_digest: str, steps: Preparation) -> str:
    """Keep that a prepared signal is to be made, again where it failed; its digest."""
    digest = steps.digest_of(source_digest)
    fresh = {"state": "queued", "error_code": None, "error_message": None}
    row = {"digest": digest, "source_digest": source_digest, "steps": preparation_to_json(steps), **fresh}
    Preparing.insert(**row).on_conflict(conflict_target=[Preparing.digest], update=fresh).execute()
    return digest


def end_preparation(digest: str, error_code: str | None = None, error_message: str | None = None) -> None:
    """Keep that a prepared signal is there, or why it is not."""
    state = "failed" if error_code else "done"
    row = {"state": state, "error_code": error_code, "error_message": error_message}
    Preparing.update(**row).where(Preparing.digest == digest).execute()


def failed_preparations(source_digest: str) -> list[Preparation]:
    """What could not be made of some contents."""
    query = Preparing.select().where(Preparing.source_digest == source_digest, Preparing.state == "failed")
    return [preparation_from_json(row.steps) for row in query]


def _being_done(preparation: Preparation, how: str = "It is being") -> str:
    folded = f"brought to {preparation.layout.name}" if preparation.layout else ""
    resampled = f"resampled to {preparation.sample_rate_hz} Hz" if preparation.sample_rate_hz else ""
    cut = "cut to its length" if preparation.frames else ""
    split = "split into its channels" if preparation.channel is not None else ""
    return f"{how} " + " and ".join(filter(None, (folded, resampled, cut, split)))


def missing_preparations(source: Described, digest: str, spec: Spec) -> set[Preparation]:
    """What is to be made of a source before it can be planned for a spec."""
    asked = set()
    for _, output in possible_formats(source, spec):
        with suppress(NiceLevelError):  # the plan will say why its channels cannot be
            asked |= {preparation_for(source, each, spec) for each in (output.of_all_channels, output)}
    return {each for each in asked if not is_measured(each.digest_of(digest))}


def preparation_to_json(preparation: Preparation) -> dict[str, Any]:
    layout = preparation.layout
    return {
        "matrix": preparation.matrix,
        "layout": [layout.name, list(layout.positions)] if layout else None,
        "sample_rate_hz": preparation.sample_rate_hz,
        "frames": preparation.frames,
        "fade_frames": preparation.fade_frames,
        "channel": preparation.channel,
    }


def preparation_from_json(stored: dict[str, Any]) -> Preparation:
    matrix, layout = stored["matrix"], stored["layout"]
    return Preparation(
        tuple(map(tuple, matrix)) if matrix else None,
        Layout(layout[0], tuple(layout[1])) if layout else None,
        stored["sample_rate_hz"],
        stored.get("frames"),
        stored.get("fade_frames", 0),
        stored.get("channel"),
    )
