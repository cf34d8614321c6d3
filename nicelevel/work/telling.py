"""The task that tells an address what became of something, again and again until it answers."""

from typing import Any

from nicelevel.config import Config
from nicelevel.core.errors import NiceLevelError
from nicelevel.handover.receiver import Receiver
from nicelevel.store.arrivals import add_telling, find_telling, save_telling
from nicelevel.store.database import database
from nicelevel.store.models import Telling

from .app import SENDING
from .trying import Call, task

AGAIN_S = (2, 10, 60, 300, 1_800, 3_600)
"""After so long it is told again; then it is given up."""


def _give_up(config: Config, code: str, sentence: str, telling_id: int) -> None:
    if telling := find_telling(telling_id):
        save_telling(telling, "given_up", sentence)


@task(_give_up, on=SENDING)
def tell_hook(call: Call, telling_id: int) -> None:
    """Tell it once; where that fails it is put on the queue for later."""
    telling = find_telling(telling_id)
    if telling is None or telling.state != "waiting":
        return
    try:
        receiver = Receiver(telling.address, call.config.may_be_inner(telling.address), lambda: not call.should_end())
        status = receiver.tell(telling.told)
    except NiceLevelError as error:
        _tell_again(telling, error.message)
        return
    save_telling(telling, "answered", f"answered {status}")


def _tell_again(telling: Telling, sentence: str) -> None:
    if telling.tries >= len(AGAIN_S):
        save_telling(telling, "given_up", sentence)
        return
    with database.atomic():
        save_telling(telling, "waiting", sentence)
        defer_telling(telling.id, AGAIN_S[telling.tries])


def enqueue_telling(line_id: int, arrival_id: int | None, address: str, told: dict[str, Any]) -> None:
    """Have an address told something; nothing where there is no address."""
    if address:
        with database.atomic():
            defer_telling(add_telling(line_id, arrival_id, address, told).id)


def defer_telling(telling_id: int, in_s: float = 0.0) -> None:
    later = {"schedule_in": {"seconds": in_s}} if in_s else {}
    tell_hook.configure(connection=database.connection(), **later).defer(telling_id=telling_id)
