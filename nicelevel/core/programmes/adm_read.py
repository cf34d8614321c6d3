"""Programmes found in the `axml` and `chna` chunks of a file (ITU-R BS.2076, BS.2088)."""

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from xml.etree import ElementTree

from ..channels import layout_of_positions
from ..errors import DamagedError
from .programme import Programme
from .speakers import COMMON, position_of

_ENTRY = struct.Struct("<H12s14s11sx")

Element = ElementTree.Element


@dataclass(frozen=True)
class _Track:
    """channel: of the file, from 1; format: of its track or of its channel."""

    channel: int
    format: str


def programmes_of_adm(axml: bytes, chna: bytes) -> tuple[Programme, ...]:
    """The programmes that a file's chunks describe, in their order; those without tracks are none.

    Raises DamagedError where the chunks cannot be read.
    """
    try:
        model = _Model(ElementTree.fromstring(axml), dict(_tracks(chna)))
    except ElementTree.ParseError as error:
        raise DamagedError(f"Its programmes are described in XML that cannot be read: {error}.") from error
    except struct.error as error:
        raise DamagedError("The chunk that says which channels its programmes have is cut off.") from error
    return tuple(filter(None, map(model.programme, model.named("audioProgramme"))))


def _tracks(chna: bytes) -> Iterator[tuple[str, _Track]]:
    """By their UIDs. An entry of zeros is none."""
    _, count = struct.unpack_from("<HH", chna)
    for number in range(count):
        channel, uid, track, _ = _ENTRY.unpack_from(chna, 4 + number * _ENTRY.size)
        if channel:
            yield _text(uid), _Track(channel, _text(track))


def _text(field: bytes) -> str:
    return field.split(b"\0")[0].decode("ascii", "replace").strip().upper()


class _Model:
    """All elements of a description; what they refer to is found by ID, whatever the namespace."""

    def __init__(self, root: Element, tracks: Mapping[str, _Track]) -> None:
        self._root, self._tracks_by_uid = root, tracks

    @cached_property
    def _by_name(self) -> dict[str, list[Element]]:
        found: dict[str, list[Element]] = {}
        for each in self._root.iter():
            if isinstance(each.tag, str):
                found.setdefault(_plain(each.tag), []).append(each)
        return found

    def named(self, name: str) -> list[Element]:
        return self._by_name.get(name, [])

    @cached_property
    def _by_id(self) -> dict[str, Element]:
        kinds = ("audioContent", "audioObject", "audioChannelFormat", "audioStreamFormat", "audioTrackFormat")
        found = {each.get(f"{kind}ID", "").upper(): each for kind in kinds for each in self.named(kind)}
        return found | {each.get("UID", "").upper(): each for each in self.named("audioTrackUID")}

    def programme(self, element: Element) -> Programme | None:
        tracks = [
            track
            for content in _referred(element, "audioContentIDRef")
            for held in _referred(self._by_id.get(content), "audioObjectIDRef")
            for track in self._tracks_of(held, ())
        ]
        tracks = list({track.channel: track for track in tracks}.values())
        if not tracks:
            return None
        positions = [self._position(track) for track in tracks]
        label = element.get("audioProgrammeName", "").strip() or element.get("audioProgrammeID", "Programme")
        return Programme(label, tuple(track.channel for track in tracks), layout_of_positions(positions))

    def _tracks_of(self, name: str, above: tuple[str, ...]) -> Iterator[_Track]:
        """Of an object and those it holds; one that holds itself is left out."""
        if name in above:
            return
        element = self._by_id.get(name)
        for uid in _referred(element, "audioTrackUIDRef"):
            if uid in self._tracks_by_uid:
                yield self._tracks_by_uid[uid]
        for inner in _referred(element, "audioObjectIDRef"):
            yield from self._tracks_of(inner, (*above, name))

    def _position(self, track: _Track) -> str | None:
        """Of a track's loudspeaker: track, stream and channel format, or the channel format at once."""
        name = track.format
        for kind in ("audioStreamFormatIDRef", "audioChannelFormatIDRef"):
            name = next(_referred(self._by_id.get(name), kind), name)
        element = self._by_id.get(name)
        if element is None:
            return COMMON.get(name[7:11].lower()) if name[3:7] == "0001" else None
        labels = [each.text or "" for each in element.iter() if _plain(each.tag) == "speakerLabel"]
        return next(filter(None, map(position_of, labels)), None)


def _referred(element: Element | None, kind: str) -> Iterator[str]:
    """The IDs that an element refers to."""
    for each in element if element is not None else ():
        if isinstance(each.tag, str) and _plain(each.tag) == kind and each.text:
            yield each.text.strip().upper()


def _plain(tag: str) -> str:
    return tag.rpartition("}")[2]
