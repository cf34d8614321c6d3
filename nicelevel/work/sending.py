"""The task that sends a package and waits for what the receiver says."""

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import procrastinate

from nicelevel.config import Config
from nicelevel.core.errors import NiceLevelError, NothingToSendError, StoppedError
from nicelevel.handover.package import package_of, stream_package
from nicelevel.handover.receiver import answer_of, hand_in
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected, database
from nicelevel.store.models import Sending
from nicelevel.store.sendings import UNDER_WAY, find_sending, save_sending

from .app import queue
from .tasks import UNEXPECTED, config_of, throttled

logger = logging.getLogger("nicelevel.work")

SEND_PRIORITY = 4
"""A package is proved already: nothing is gained by letting it wait for what is still to be rendered."""

ASKED_EVERY_S, ASKED_FOR_S, ASKED_AGAIN_S = 0.4, 20.0, 5
"""An answer is waited for so long; then the place on the queue is given to others, and it is asked again later."""


@queue.task(name="send_package", pass_context=True)
def send_package(context: procrastinate.JobContext, sending_id: int) -> None:
    """Send the package of a job and keep what the receiver answers. What was handed in is not sent twice."""
    config = config_of(context)
    with connected():
        sending = find_sending(sending_id)
        if sending is None or sending.state not in UNDER_WAY:
            return
        with _sending_outcome(sending):
            if sending.receipt is None:
                _hand_in(sending, config)
            _wait_for_answer(sending)


def _hand_in(sending: Sending, config: Config) -> None:
    audio = AudioFolder(config.audio_folder)
    package = package_of(sending.job, audio, config.deliverables_folder)
    if not package.files:
        raise NothingToSendError("Nothing of this job is proved, so there is no package to send.")
    contents = [{"path": each.name, "sha256": each.sha256} for each in package.files]
    if not save_sending(sending, "sending", contents=contents, progress_ratio=0.0):
        raise StoppedError("Stopped.")

    def go_on(ratio: float) -> None:
        if not save_sending(sending, "sending", progress_ratio=ratio):
            raise StoppedError("Stopped.")

    stream = stream_package(package, audio)
    sending.receipt = hand_in(sending.address, stream, package.size_bytes, throttled(go_on))
    if not save_sending(sending, "checking", receipt=sending.receipt, progress_ratio=0.0):
        raise StoppedError("Stopped.")


def _wait_for_answer(sending: Sending) -> None:
    end_s = time.monotonic() + ASKED_FOR_S
    while time.monotonic() < end_s:
        answer = answer_of(str(sending.receipt))
        if answer["state"] != "checking":
            save_sending(sending, answer["state"], answer=answer, progress_ratio=1.0)
            return
        if not save_sending(sending, "checking", progress_ratio=_ratio(answer.get("progress"))):
            raise StoppedError("Stopped.")
        time.sleep(ASKED_EVERY_S)
    later = {"schedule_in": {"seconds": ASKED_AGAIN_S}, "priority": SEND_PRIORITY}
    send_package.configure(connection=database.connection(), **later).defer(sending_id=sending.id)


def _ratio(told: Any) -> float:
    return min(1.0, max(0.0, float(told))) if isinstance(told, int | float) else 0.0


@contextmanager
def _sending_outcome(sending: Sending) -> Iterator[None]:
    """Save how it ended where there is no answer; a stop was saved by who asked for it."""
    try:
        yield
    except StoppedError:
        logger.info("sending %s was stopped", sending.id)
    except NiceLevelError as error:
        save_sending(sending, "failed", error_message=error.message)
    except Exception:
        save_sending(sending, "failed", error_message=UNEXPECTED)
        raise
