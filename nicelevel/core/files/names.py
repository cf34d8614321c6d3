"""Names of deliverables: by the spec's pattern, safe on every system, never outside the output folder."""

import os
import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import PurePath, PurePosixPath

from ..specs.spec import Spec
from ..values import OutputFormat
from ..versions import read_name
from .containers import sample_bits

_UNSAFE = re.compile(r'[<>:"/\\|?*\x00-\x1f\x7f]')
_RESERVED = {"con", "prn", "aux", "nul", *(f"{port}{n}" for port in ("com", "lpt") for n in range(1, 10))}
_LONGEST_BYTES = 200
EXTENSIONS = {each: f".{each}" for each in ("wav", "aiff", "caf", "flac", "m4a", "mp3", "ogg", "ac3")}


@lru_cache(maxsize=30_000)
def stem_of(file_name: str) -> str:
    """The name of a file without its extension."""
    return PurePath(file_name).stem


def deliverable_path(
    title: str, spec: Spec, output: OutputFormat, beside: Sequence[OutputFormat] = ()
) -> PurePosixPath:
    """Path of a deliverable under its output folder, with extension; a spec's pattern holds NAME_FIELDS alone.

    What stands before a slash of the pattern is a folder. A title makes no folder, whatever signs it has. Of a file
    per channel the name ends with the channel's. beside: everything that the spec makes of the same source; where the
    pattern gives one of them the same name, each says what it has of its own.
    """
    path = _by_pattern(title, spec, output)
    alike = [each for each in beside if each != output and _by_pattern(title, spec, each) == path]
    if not alike or spec.output.pick != "all":
        return path
    own = [words[0] for words in zip(*map(_told_by, (output, *alike)), strict=True) if len(set(words)) > 1]
    return path.with_name(_with_ending(path.name, " ".join(own)))


def _told_by(output: OutputFormat) -> tuple[str, ...]:
    """What may tell two outputs of one name apart, in the order in which it is said."""
    bits = "lossy" if output.is_lossy else f"{'float ' if output.bits is None else ''}{sample_bits(output)} bit"
    kbps = f"{output.bitrate_kbps:g} kbps" if output.bitrate_kbps else ""
    whole = output.of_all_channels.layout.name
    rate, mode, dither = f"{output.sample_rate_hz / 1000:g}k", output.bitrate_mode, output.dither
    codec = output.coding_name if output.is_lossy or output.lossless else ""
    return rate, codec, bits, kbps, mode, whole, dither


def _with_ending(name: str, ending: str) -> str:
    """A file name that says something more before its extension; the rest gives way where it is too long."""
    stem, dot, extension = name.rpartition(".")
    while stem and len(os.fsencode(f"{stem}_{ending}{dot}{extension}")) > _LONGEST_BYTES:
        stem = stem[:-1]
    return f"{stem}_{ending}{dot}{extension}"


def _by_pattern(title: str, spec: Spec, output: OutputFormat) -> PurePosixPath:
    fields = {
        "title": title,
        "version": str(read_name(title).number or ""),
        "spec": spec.slug,
        "rate": str(output.sample_rate_hz),
        "bits": "lossy" if output.is_lossy else str(sample_bits(output)),
        "codec": output.coding,
        "channels": output.of_all_channels.layout.name,
        "lufs": _target(spec, output),
    }
    inside = {key: value.replace("/", "_").replace("\\", "_") for key, value in fields.items()}
    parts = spec.output.name.replace("\\", "/").split("/")
    *folders, name = (part for part in parts if part.strip() not in ("", "."))
    places = [_filled(folder, inside) for folder in folders]
    channel = f".{output.channel_name}" if output.channel_name else ""
    return PurePosixPath(*places, _filled(name, inside) + channel + EXTENSIONS[output.container])


def _filled(pattern: str, inside: dict[str, str]) -> str:
    """One name of a pattern. Of one that is too long the title gives way, so that what tells files apart stays."""
    title = inside["title"]
    while title and len(os.fsencode(pattern.format_map({**inside, "title": title}))) > _LONGEST_BYTES:
        title = title[:-1]
    return safe_name(pattern.format_map({**inside, "title": title.rstrip()}))


def _target(spec: Spec, output: OutputFormat) -> str:
    """The target of a spec as a name has it: -23, -16.5; nothing where the level is not touched."""
    if spec.loudness is None:
        return "as mixed"
    return f"{spec.loudness.target_for(len(output.of_all_channels.layout.positions)):g}"


def packed_path(file_name: str, spec: Spec) -> str:
    """Path of a written file in a package: in a folder of its destination, unless the spec's pattern has a place."""
    has_place = "/" in spec.output.name.replace("\\", "/")
    return file_name if has_place else f"{safe_name(spec.spec.name)}/{file_name}"


def missed_name(name: str) -> str:
    """Name under which a file that misses its spec is kept: it says so."""
    stem, dot, extension = name.rpartition(".")
    return f"{stem} MISSES ITS SPEC{dot}{extension}"


def safe_name(name: str) -> str:
    """One name that Windows, macOS and Linux all take: no separators, no control signs, not too long."""
    clean = _UNSAFE.sub("_", name).strip(" .")
    if clean.partition(".")[0].lower() in _RESERVED:
        clean = f"_{clean}"
    while len(os.fsencode(clean)) > _LONGEST_BYTES:
        clean = clean[:-1]
    return clean.rstrip(" .") or "untitled"
