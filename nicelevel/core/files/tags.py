"""Tags and artwork in the three dialects that audio files have for them, through mutagen.

Vorbis comments (FLAC, Ogg; xiph.org), ID3 version 2.4 (MP3, AIFF; id3.org), atoms of MP4 (from memory).
"""

import base64
from pathlib import Path
from typing import Any

import mutagen
from mutagen.aiff import AIFF
from mutagen.flac import FLAC, Picture
from mutagen.id3 import APIC, ID3, Frames
from mutagen.mp3 import MP3
from mutagen.mp4 import MP4, AtomDataType, MP4Cover
from mutagen.oggopus import OggOpus
from mutagen.oggvorbis import OggVorbis

Artwork = tuple[str, bytes]
"""Its media type and its bytes."""

_ID3_FRAMES = {
    "title": "TIT2",
    "artist": "TPE1",
    "album": "TALB",
    "albumartist": "TPE2",
    "date": "TDRC",
    "genre": "TCON",
    "tracknumber": "TRCK",
    "discnumber": "TPOS",
    "composer": "TCOM",
    "copyright": "TCOP",
    "isrc": "TSRC",
    "comment": "COMM",
}
_MP4_ATOMS = {
    "title": "\xa9nam",
    "artist": "\xa9ART",
    "album": "\xa9alb",
    "albumartist": "aART",
    "date": "\xa9day",
    "genre": "\xa9gen",
    "composer": "\xa9wrt",
    "copyright": "cprt",
    "comment": "\xa9cmt",
}
TAGS = tuple(_ID3_FRAMES)
"""What is carried, by the names of Vorbis comments."""

_FRONT_COVER = 3
_PICTURE_KEY = "metadata_block_picture"
_WRITERS: dict[str, Any] = {"flac": FLAC, "mp3": MP3, "aiff": AIFF, "m4a": MP4, "vorbis": OggVorbis, "opus": OggOpus}


def tag_dialect(container: str, encoding: str) -> str | None:
    """Which kind of file takes the tags of a deliverable; None where it has no place for any."""
    kind = encoding if container == "ogg" else container
    return kind if kind in _WRITERS else None


def can_hold(dialect: str, name: str) -> bool:
    """Whether a tag has a place in a kind of file."""
    return dialect != "m4a" or name in _MP4_ATOMS


def read_tags(path: Path) -> tuple[dict[str, str], Artwork | None]:
    """Tags and front cover of a file; nothing where it cannot be understood."""
    try:
        with path.open("rb") as file:
            found: Any = mutagen.File(file)
    except (mutagen.MutagenError, OSError):
        return {}, None
    if found is None or found.tags is None:
        return {}, None
    if isinstance(found.tags, ID3):
        return _from_id3(found.tags)
    if isinstance(found, MP4):
        return _from_mp4(found)
    return _from_comments(found)


def _from_id3(tags: ID3) -> tuple[dict[str, str], Artwork | None]:
    frames = {name: tags.getall(key) for name, key in _ID3_FRAMES.items()}
    texts = {name: str(found[0].text[0]) for name, found in frames.items() if found and found[0].text}
    pictures = tags.getall("APIC")
    return texts, (pictures[0].mime, pictures[0].data) if pictures else None


def _from_mp4(found: MP4) -> tuple[dict[str, str], Artwork | None]:
    texts = {name: str(found[key][0]) for name, key in _MP4_ATOMS.items() if found.get(key)}
    covers = found.get("covr")
    if not covers:
        return texts, None
    kind = "image/png" if covers[0].imageformat == MP4Cover.FORMAT_PNG else "image/jpeg"
    return texts, (kind, bytes(covers[0]))


def _from_comments(found: Any) -> tuple[dict[str, str], Artwork | None]:
    texts = {name: str(found[name][0]) for name in TAGS if found.get(name)}
    pictures = list(getattr(found, "pictures", []))
    pictures += [Picture(base64.b64decode(text)) for text in found.get(_PICTURE_KEY, [])]
    return texts, (pictures[0].mime, pictures[0].data) if pictures else None


def write_tags(path: Path, dialect: str, tags: dict[str, str], artwork: Artwork | None) -> None:
    """Put tags and a front cover into a file; each must have a place there. No sample is touched."""
    file: Any = _WRITERS[dialect](path)
    if dialect == "m4a":
        _into_mp4(file, tags, artwork)
    elif dialect in ("mp3", "aiff"):
        _into_id3(file, tags, artwork)
    else:
        _into_comments(file, tags, artwork)
    file.save()


def _into_id3(file: Any, tags: dict[str, str], artwork: Artwork | None) -> None:
    if file.tags is None:
        file.add_tags()
    for name, text in tags.items():
        key = _ID3_FRAMES[name]
        extra = {"lang": "XXX", "desc": ""} if key == "COMM" else {}
        file.tags.add(Frames[key](encoding=3, text=[text], **extra))
    if artwork:
        file.tags.add(APIC(encoding=3, mime=artwork[0], type=_FRONT_COVER, desc="", data=artwork[1]))


def _into_mp4(file: MP4, tags: dict[str, str], artwork: Artwork | None) -> None:
    if file.tags is None:
        file.add_tags()
    for name, text in tags.items():
        file[_MP4_ATOMS[name]] = [text]
    if artwork:
        kind = AtomDataType.PNG if artwork[0] == "image/png" else AtomDataType.JPEG
        file["covr"] = [MP4Cover(artwork[1], imageformat=kind)]


def _into_comments(file: Any, tags: dict[str, str], artwork: Artwork | None) -> None:
    if file.tags is None:
        file.add_tags()
    for name, text in tags.items():
        file[name] = [text]
    if not artwork:
        return
    picture = Picture()
    picture.type, picture.mime, picture.data = _FRONT_COVER, artwork[0], artwork[1]
    if isinstance(file, FLAC):
        file.add_picture(picture)
    else:
        file[_PICTURE_KEY] = [base64.b64encode(picture.write()).decode()]
