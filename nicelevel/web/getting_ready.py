"""What a server does by itself once it has started, so that nobody's first page waits for it.

Templates are compiled, and the sources of the newest jobs are read and held against each other (`desk/roll.py`).
"""

import logging
import threading

from flask import Flask

from nicelevel.desk.roll import roll_of
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected
from nicelevel.store.jobs import all_jobs

from .giving_way import Count

MOST_SOURCES = 10_000
"""So many are made ready in all; figures of more are in nobody's way when they are asked for."""

logger = logging.getLogger("nicelevel.web")


def get_ready_beside(app: Flask) -> threading.Thread:
    """Begin to, in a thread of its own that gives way to whoever asks for a page."""
    thread = threading.Thread(target=_get_ready, args=(app,), daemon=True)
    thread.start()
    return thread


def _get_ready(app: Flask) -> None:
    count = Count(app.extensions["giving_way"])
    for name in app.jinja_env.list_templates():
        app.jinja_env.get_template(name)
        count.pause()
    try:
        with connected():
            _read_jobs(app.config["AUDIO"], count)
    except Exception:  # whoever asks for the page is told what is the matter
        logger.exception("the newest jobs could not be read beforehand")


def _read_jobs(audio: AudioFolder, count: Count) -> None:
    known = 0
    for job in all_jobs():
        known += len(roll_of(job.id, audio).places)
        if known > MOST_SOURCES:
            return
        count.pause()
