"""Reading TOML that a stranger may have written: its length and depth are bounded before the parser sees it.

The parser takes memory and time with the square of how deep a key goes, and counts on the interpreter's own stack.
"""

import tomllib
from pathlib import Path
from typing import Any

from .errors import SpecError

LARGEST_TOML_BYTES = 100_000
DEEPEST = 8
"""So deep may keys and brackets go; a spec needs three."""

LONGEST_WORD = 64
"""Of keys and numbers."""


def parse_toml(text: str, name: str) -> dict[str, Any]:
    """The tables of a text; a byte order mark before it is passed over.

    Raises SpecError, in one line beginning with `name`, where it is too long, too deep or not TOML.
    """
    if len(text.encode("utf-8", "replace")) > LARGEST_TOML_BYTES:
        raise SpecError(f"{name}: longer than the {LARGEST_TOML_BYTES // 1000} kB that it can be")
    text = text.removeprefix("\ufeff")
    _refuse_depth(text, name)
    try:
        return tomllib.loads(text)
    except (tomllib.TOMLDecodeError, ValueError, RecursionError) as error:
        raise SpecError(f"{name}: not readable as TOML: {_one_line(error)}") from error


def read_toml(path: Path) -> str:
    """The text of a file that should be TOML. Raises SpecError where it cannot be read."""
    try:
        # Looked at before it is opened: a pipe would wait for somebody to write, for ever.
        if not path.is_file():
            raise SpecError(f"{path.name}: {'is no file' if path.exists() else 'cannot be read: no such file'}")
        with path.open("rb") as file:
            return file.read(LARGEST_TOML_BYTES + 1).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise SpecError(f"{path.name}: not readable as text") from error
    except OSError as error:
        raise SpecError(f"{path.name}: cannot be read: {(error.strerror or str(error)).lower()}") from error


def _refuse_depth(text: str, name: str) -> None:
    """One walk over what stands outside strings and comments, so that its time grows with its length alone."""
    at, depth, dots, signs = 0, 0, 0, 0
    while at < len(text):
        sign = text[at]
        if sign in "\"'":
            at = _after_string(text, at)
            continue
        if sign == "#":
            at = _found(text, "\n", at)
            continue
        depth += (sign in "[{") - (sign in "]}")
        dots = dots + 1 if sign == "." else 0 if sign in "\n=,[]{}" else dots
        signs = signs + 1 if sign.isalnum() or sign in "_." else 0
        if depth > DEEPEST:
            raise SpecError(f"{name}: brackets go deeper than the {DEEPEST} levels that they can have")
        if dots > DEEPEST:
            raise SpecError(f"{name}: a key goes deeper than the {DEEPEST} levels that it can have")
        if signs > LONGEST_WORD:
            raise SpecError(f"{name}: a key or number has more than the {LONGEST_WORD} signs that it can have")
        at += 1


def _after_string(text: str, at: int) -> int:
    """Where what follows a string begins; its end where nothing closes it."""
    quote = text[at : at + 3] if text[at : at + 3] in ('"""', "'''") else text[at]
    at += len(quote)
    while at < len(text):
        if text[at] == "\\" and quote[0] == '"':
            at += 2
        elif text.startswith(quote, at):
            return at + len(quote)
        elif text[at] == "\n" and len(quote) == 1:
            return at
        else:
            at += 1
    return at


def _found(text: str, sign: str, at: int) -> int:
    found = text.find(sign, at)
    return len(text) if found < 0 else found


def _one_line(error: Exception) -> str:
    return " ".join(str(error).split())[:200] or type(error).__name__
