"""The task that sends a package and waits for what the receiver says."""

import time
import uuid
from contextlib import suppress
from functools import partial
from typing import Any

from nicelevel.config import Config
from nicelevel.core.errors import NothingToSendError, StoppedError
from nicelevel.handover.joined import write_contribution
from nicelevel.handover.package import package_of, stream_package
from nicelevel.handover.receiver import Receiver
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import GONE, connected, database, persistently
from nicelevel.store.models import Sending
from nicelevel.store.sendings import begin_sending, end_sending, find_sending, is_under_way, save_sending

from .app import SENDING
from .trying import Call, WorkerEndsError, ending, progress_of, task

PIECE_BYTES = 1 << 20
ASKED_EVERY_S, ASKED_FOR_S, ASKED_AGAIN_S = 0.4, 20.0, 5
"""An answer is waited for so long; then the place on the queue is given to others, and it is asked again later."""


def _give_up(config: Config, code: str, sentence: str, sending_id: int) -> None:
    if sending := find_sending(sending_id):
        end_sending(sending, "failed", error_message=sentence)


@task(_give_up, on=SENDING)
def send_package(call: Call, sending_id: int) -> None:
    """Send the package of a job and keep what the receiver answers. What was handed in is not sent twice."""
    sending = find_sending(sending_id)
    if sending is None or not begin_sending(sending):
        return

    def fail(code: str, sentence: str) -> bool:
        return save_sending(sending, "failed", error_message=sentence)

    with ending(call, fail, lambda: True):
        if sending.receipt is None:
            _hand_in(call, sending)
        _wait_for_answer(call, sending)


def _hand_in_contribution(call: Call, sending: Sending) -> None:
    """Written for this sending alone; gone from the disk once it is sent, whatever becomes of us."""
    config = call.config
    config.uploads_folder.mkdir(parents=True, exist_ok=True)
    to = config.uploads_folder / f"{uuid.uuid4().hex}.part"
    _save(sending, "sending", progress_ratio=0.0)
    try:
        audio = AudioFolder(config.audio_folder)
        parts = write_contribution(sending.contribution or {}, config.deliverables_folder, audio, to)
        contents = [{"path": each.file_name, "sha256": each.sha256} for each in parts]
        _save(sending, "sending", contents=contents, progress_ratio=0.0)
        progress = progress_of(call, lambda ratio: save_sending(sending, "sending", progress_ratio=ratio))
        with to.open("rb") as file:
            pieces = iter(partial(file.read, PIECE_BYTES), b"")
            receiver = _receiver(call, sending)
            sending.receipt = receiver.hand_in(pieces, to.stat().st_size, progress, "audio/wav")
    finally:
        to.unlink(missing_ok=True)
    _save(sending, "checking", receipt=sending.receipt, progress_ratio=0.0)


def _hand_in(call: Call, sending: Sending) -> None:
    if sending.contribution:
        _hand_in_contribution(call, sending)
        return
    config = call.config
    audio = AudioFolder(config.audio_folder)
    package = package_of(sending.job, audio, config.deliverables_folder)
    if not package.files:
        raise NothingToSendError("Nothing of this job is proved, so there is no package to send.")
    contents = [{"path": each.name, "sha256": each.sha256} for each in package.files]
    _save(sending, "sending", contents=contents, progress_ratio=0.0)
    progress = progress_of(call, lambda ratio: save_sending(sending, "sending", progress_ratio=ratio))
    stream = stream_package(package, audio)
    sending.receipt = _receiver(call, sending).hand_in(stream, package.size_bytes, progress)
    _save(sending, "checking", receipt=sending.receipt, progress_ratio=0.0)


def _wait_for_answer(call: Call, sending: Sending) -> None:
    end_s, receiver = time.monotonic() + ASKED_FOR_S, _receiver(call, sending)
    while time.monotonic() < end_s:
        answer = receiver.answer_of(str(sending.receipt))
        if answer["state"] != "checking":
            _save(sending, answer["state"], answer=answer, progress_ratio=1.0)
            return
        _save(sending, "checking", progress_ratio=answer["progress"])
        if call.should_end():
            raise WorkerEndsError("The worker ends.")
        time.sleep(ASKED_EVERY_S)
    later = {"schedule_in": {"seconds": ASKED_AGAIN_S}, "lock": f"sending {sending.id}"}
    send_package.configure(connection=database.connection(), **later).defer(sending_id=sending.id)


def _receiver(call: Call, sending: Sending) -> Receiver:
    def is_wanted() -> bool:
        with suppress(*GONE), connected():
            return not call.should_end() and is_under_way(sending)
        return True

    return Receiver(sending.address, call.config.may_be_inner(sending.address), is_wanted)


def _save(sending: Sending, state: str, **columns: Any) -> None:
    if not persistently(partial(save_sending, sending, state, **columns)):
        raise StoppedError("Stopped.")
