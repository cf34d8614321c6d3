"""Versions of specs, kept for ever."""

import hashlib
from functools import lru_cache

from nicelevel.core.specs import Spec, parse_spec

from .models import SpecVersion


def keep_spec(slug: str, toml: str) -> SpecVersion:
    """The version with this text, made where it is new."""
    digest = hashlib.sha256(f"{slug}\n{toml}".encode()).hexdigest()
    row = {"slug": slug, "digest": digest, "toml": toml}
    SpecVersion.insert(**row).on_conflict_ignore().execute()
    return SpecVersion.get(SpecVersion.digest == digest)


def spec_of(version: SpecVersion) -> Spec:
    """The spec of a version."""
    return _parsed(version.toml, version.slug)


@lru_cache(maxsize=256)
def _parsed(toml: str, slug: str) -> Spec:
    return parse_spec(toml, slug)
