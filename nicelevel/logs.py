"""Logs: one line each, in words or as JSON for programs, with the id that a request keeps up to its worker."""

import logging
import re
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from pythonjsonlogger.json import JsonFormatter

TRACE_BYTES = 6
_TRACE = re.compile(r"[A-Za-z0-9._-]{1,64}")

_trace: ContextVar[str] = ContextVar("trace", default="")


def trace() -> str:
    """The id of what is being done now; empty where nobody asked for it."""
    return _trace.get()


def begin_trace(given: str = "") -> str:
    """Begin something with an id: the one that was given, where it is one, else a new one."""
    fresh = given if _TRACE.fullmatch(given) else secrets.token_hex(TRACE_BYTES)
    _trace.set(fresh)
    return fresh


@contextmanager
def traced(given: str) -> Iterator[None]:
    """What is done in the block has this id."""
    before = _trace.set(given)
    try:
        yield
    finally:
        _trace.reset(before)


class _WithTrace(logging.Filter):
    """Adds which part of the program speaks, and what for."""

    def __init__(self, part: str) -> None:
        super().__init__()
        self._part = part

    def filter(self, record: logging.LogRecord) -> bool:
        record.part, record.trace = self._part, trace() or "-"
        return True


def arrange_logs(part: str, as_json: bool) -> None:
    """Everything that this process logs goes to its standard error. part: what it is: web, worker."""
    handler = logging.StreamHandler()
    handler.addFilter(_WithTrace(part))
    if as_json:
        named = {"asctime": "time", "levelname": "level", "name": "logger"}
        handler.setFormatter(
            JsonFormatter("{asctime}{levelname}{name}{part}{trace}{message}", style="{", rename_fields=named)
        )
    else:
        handler.setFormatter(logging.Formatter("%(asctime)s %(part)s %(levelname)s [%(trace)s] %(message)s"))
    logging.basicConfig(level=logging.INFO, handlers=[handler], force=True)
    for noisy in ("procrastinate", "waitress", "fontTools", "weasyprint", "botocore", "aiobotocore", "s3fs"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
