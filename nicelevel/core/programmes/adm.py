"""Programmes written as the Audio Definition Model has them (ITU-R BS.2076-2): the `axml` chunk that describes them
and the `chna` chunk that ties its tracks to the channels of the file (ITU-R BS.2088-1).

Every loudspeaker is defined in full, none by the number of a common definition: so a reader needs no table.
"""

import re
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from xml.etree import ElementTree

from .levels import Levels, put_levels
from .programme import Programme
from .speakers import LABEL_PREFIX, is_lfe, speakers_of

DIRECT_SPEAKERS = "0001"
FIRST_OWN = 0x1001
"""Lower numbers are those of common definitions."""

MODEL = "ITU-R_BS.2076-2"
LFE_LOW_PASS_HZ = 120
HUNDRED_THOUSANDTHS = 100_000

_NOT_IN_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""What XML 1.0 has no place for (section 2.2)."""

Element = ElementTree.Element


@dataclass(frozen=True)
class Carried:
    """levels: of each programme, to be stated; frame_rate, start: of the pictures that it goes with."""

    levels: tuple[Levels, ...] = ()
    frame_rate: str = ""
    start: str = ""


def adm_chunks(
    programmes: Sequence[Programme], rate_hz: int, span: tuple[int, int], bits: int, carried: Carried | None = None
) -> tuple[tuple[bytes, bytes], ...]:
    """`chna` and `axml` of a file that holds these programmes, each channel in one of them at most.

    span: the frames of the file from which to which they go.
    """
    return (b"chna", _chna(programmes)), (b"axml", _axml(programmes, rate_hz, span, bits, carried or Carried()))


def _numbered(programmes: Sequence[Programme]) -> Iterator[tuple[int, Programme, int, list[int]]]:
    """Number of each programme from 1, itself, the number of its pack, and those of its tracks from 1."""
    done = 0
    for number, each in enumerate(programmes, 1):
        tracks = list(range(done + 1, done + 1 + len(each.channels)))
        yield number, each, FIRST_OWN + number - 1, tracks
        done += len(tracks)


def _chna(programmes: Sequence[Programme]) -> bytes:
    entries = [
        struct.pack("<H12s14s11sx", channel, *(text.encode() for text in (_uid(track), _track(track), _pack(pack))))
        for _, each, pack, tracks in _numbered(programmes)
        for channel, track in zip(each.channels, tracks, strict=True)
    ]
    channels = {channel for each in programmes for channel in each.channels}
    return struct.pack("<HH", len(channels), len(entries)) + b"".join(entries)


def _axml(programmes: Sequence[Programme], rate_hz: int, span: tuple[int, int], bits: int, carried: Carried) -> bytes:
    root = Element("ebuCoreMain", {"xmlns": "urn:ebu:metadata-schema:ebuCore_2016", "xml:lang": "en"})
    form = _within(_within(root, "coreMetadata"), "format")
    if carried.start:
        # Names of these elements from memory (EBU Tech 3293).
        told = _within(form, "timecodeFormat")
        _within(_within(told, "timecodeStart"), "timecode", carried.start)
        _within(told, "frameRate", carried.frame_rate)
    model = _within(form, "audioFormatExtended", version=MODEL)
    begin, end, duration = (_time(Fraction(each, rate_hz)) for each in (*span, span[1] - span[0]))
    for number, each, _, _ in _numbered(programmes):
        names = {"audioProgrammeID": f"APR_{_hex(number)}", "audioProgrammeName": _in_xml(each.label)}
        told = _within(model, "audioProgramme", **names, start=begin, end=end)
        _within(told, "audioContentIDRef", f"ACO_{_hex(number)}")
        if carried.levels:
            put_levels(told, carried.levels[number - 1])
    for number, each, _, _ in _numbered(programmes):
        names = {"audioContentID": f"ACO_{_hex(number)}", "audioContentName": _in_xml(each.label)}
        _within(_within(model, "audioContent", **names), "audioObjectIDRef", f"AO_{_hex(number)}")
    for number, each, pack, tracks in _numbered(programmes):
        names = {"audioObjectID": f"AO_{_hex(number)}", "audioObjectName": _in_xml(each.label)}
        told = _within(model, "audioObject", **names, start=begin, duration=duration)
        _within(told, "audioPackFormatIDRef", _pack(pack))
        for track in tracks:
            _within(told, "audioTrackUIDRef", _uid(track))
    for _, each, pack, tracks in _numbered(programmes):
        _put_pack(model, each, pack, tracks)
        _put_channels(model, each, tracks)
        for track in tracks:
            told = _within(model, "audioTrackUID", UID=_uid(track), sampleRate=str(rate_hz), bitDepth=str(bits))
            _within(told, "audioTrackFormatIDRef", _track(track))
            _within(told, "audioPackFormatIDRef", _pack(pack))
    ElementTree.indent(root)
    written: bytes = ElementTree.tostring(root, "UTF-8", xml_declaration=True)
    return written


def _put_pack(model: Element, programme: Programme, pack: int, tracks: Sequence[int]) -> None:
    names = {"audioPackFormatID": _pack(pack), "audioPackFormatName": programme.layout.name}
    told = _within(model, "audioPackFormat", **names, **_TYPE)
    for track in tracks:
        _within(told, "audioChannelFormatIDRef", _channel(track))


def _put_channels(model: Element, programme: Programme, tracks: Sequence[int]) -> None:
    """Of each channel its loudspeaker, its stream and its track: one each."""
    positions = programme.layout.positions
    for track, position, speaker in zip(tracks, positions, speakers_of(positions), strict=True):
        name = position or f"Channel {track}"
        told = _within(
            model, "audioChannelFormat", audioChannelFormatID=_channel(track), audioChannelFormatName=name, **_TYPE
        )
        if is_lfe(position):
            _within(told, "frequency", str(LFE_LOW_PASS_HZ), typeDefinition="lowPass")
        block = _within(told, "audioBlockFormat", audioBlockFormatID=f"AB_{_own(track)}_00000001")
        if speaker.label:
            _within(block, "speakerLabel", f"{LABEL_PREFIX}0:speaker:{speaker.label}")
        for coordinate in ("azimuth", "elevation"):
            _within(block, "position", f"{getattr(speaker, coordinate):.1f}", coordinate=coordinate)
        stream = _within(
            model,
            "audioStreamFormat",
            audioStreamFormatID=f"AS_{_own(track)}",
            audioStreamFormatName=f"PCM {name}",
            **_PCM,
        )
        _within(stream, "audioChannelFormatIDRef", _channel(track))
        _within(stream, "audioTrackFormatIDRef", _track(track))
        told = _within(
            model,
            "audioTrackFormat",
            audioTrackFormatID=_track(track),
            audioTrackFormatName=f"PCM {name}",
            **_PCM,
        )
        _within(told, "audioStreamFormatIDRef", f"AS_{_own(track)}")


_TYPE = {"typeLabel": DIRECT_SPEAKERS, "typeDefinition": "DirectSpeakers"}
_PCM = {"formatLabel": "0001", "formatDefinition": "PCM"}


def _within(parent: Element, name: str, text: str | None = None, /, **attributes: str) -> Element:
    made = ElementTree.SubElement(parent, name, attributes)
    made.text = text
    return made


def _in_xml(text: str) -> str:
    return _NOT_IN_XML.sub("_", text)


def _hex(number: int) -> str:
    return f"{FIRST_OWN + number - 1:04x}"


def _own(track: int) -> str:
    return DIRECT_SPEAKERS + _hex(track)


def _pack(number: int) -> str:
    return f"AP_{DIRECT_SPEAKERS}{number:04x}"


def _channel(track: int) -> str:
    return f"AC_{_own(track)}"


def _track(track: int) -> str:
    return f"AT_{_own(track)}_01"


def _uid(track: int) -> str:
    return f"ATU_{track:08x}"


def _time(seconds: Fraction) -> str:
    """hh:mm:ss.zzzzz, halves up."""
    parts = int(seconds * HUNDRED_THOUSANDTHS + Fraction(1, 2))
    whole, left = divmod(parts, HUNDRED_THOUSANDTHS)
    return f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}.{left:05d}"
