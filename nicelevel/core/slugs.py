"""Short names for files and addresses: small letters, digits and dashes."""

import re
import unicodedata
from collections.abc import Container

LONGEST = 60
_SLUG = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,58}[a-z0-9])?")


def is_slug(text: str) -> bool:
    """Whether a text can be one as it stands."""
    return _SLUG.fullmatch(text) is not None


def slug_of(name: str, otherwise: str) -> str:
    """A name in the signs that a slug has; `otherwise` where none of them is left."""
    plain = unicodedata.normalize("NFKD", name.lower()).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:LONGEST].strip("-") or otherwise


def free_slug(base: str, taken: Container[str]) -> str:
    """The slug itself, or where it is taken the first with a number that is free."""
    slug, number = base, 2
    while slug in taken:
        slug, number = f"{base}-{number}", number + 1
    return slug
