"""Prepared signals: readings and hops under the digest of source and steps, made in the background, remembered."""

from contextlib import suppress
from dataclasses import replace
from functools import lru_cache
from typing import Any

from nicelevel.core.channels import Layout
from nicelevel.core.errors import NiceLevelError, NotPreparedError
from nicelevel.core.measure.hop_files import open_hops
from nicelevel.core.plan.formats import possible_formats
from nicelevel.core.prepare import UNTOUCHED, Find, Prepared, preparation_for
from nicelevel.core.prepare.prepared import prepared_source
from nicelevel.core.specs import Spec
from nicelevel.core.values import Preparation
from nicelevel.core.values import Source as Described

from .audio import AudioFolder
from .readings import is_measured, load_reading

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
        raise NotPreparedError(f"{_being_done(preparation)} and measured; its plan follows.")
    reading = load_reading(prepared_digest, audio)
    return Prepared(reading, open_hops(audio.hops_folder(prepared_digest)), preparation)


def _being_done(preparation: Preparation) -> str:
    folded = f"brought to {preparation.layout.name}" if preparation.layout else ""
    resampled = f"resampled to {preparation.sample_rate_hz} Hz" if preparation.sample_rate_hz else ""
    cut = "cut to its length" if preparation.frames else ""
    split = "split into its channels" if preparation.channel is not None else ""
    return "It is being " + " and ".join(filter(None, (folded, resampled, cut, split)))


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
