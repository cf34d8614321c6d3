"""Names of deliverables: by the spec's pattern, safe on every system, never outside the output folder."""

import re

from ..specs.spec import Spec
from ..values import OutputFormat
from .containers import sample_bits

_UNSAFE = re.compile(r'[<>:"/\\|?*\x00-\x1f\x7f]')
_RESERVED = {"con", "prn", "aux", "nul", *(f"{port}{n}" for port in ("com", "lpt") for n in range(1, 10))}
_LONGEST_BYTES = 200
EXTENSIONS = {each: f".{each}" for each in ("wav", "aiff", "caf", "flac", "m4a", "mp3", "ogg", "ac3")}


def deliverable_name(title: str, spec: Spec, output: OutputFormat) -> str:
    """File name with extension of a deliverable; a spec's pattern holds NAME_FIELDS alone."""
    fields = {
        "title": title,
        "spec": spec.slug,
        "rate": str(output.sample_rate_hz),
        "bits": "lossy" if output.is_lossy else str(sample_bits(output)),
        "channels": output.layout.name,
    }
    name = spec.output.name.format_map(fields)
    return safe_name(name) + EXTENSIONS[output.container]


def missed_name(name: str) -> str:
    """Name under which a file that misses its spec is kept: it says so."""
    stem, dot, extension = name.rpartition(".")
    return f"{stem} MISSES ITS SPEC{dot}{extension}"


def safe_name(name: str) -> str:
    """One name that Windows, macOS and Linux all take: no separators, no control signs, not too long."""
    clean = _UNSAFE.sub("_", name).strip(" .")
    if clean.partition(".")[0].lower() in _RESERVED:
        clean = f"_{clean}"
    while len(clean.encode()) > _LONGEST_BYTES:
        clean = clean[:-1]
    return clean.rstrip(" .") or "untitled"
