"""Files that are asked for piece by piece stay open between the pieces: opening may take longer than reading."""

import threading
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from .read import Audio, take_in

KEPT = 12
"""So many files that nobody reads just now stay open, the latest ones."""

_Key = tuple[Path, int, int]

_waiting: OrderedDict[_Key, Audio] = OrderedDict()
_lock = threading.Lock()


@contextmanager
def kept_open(path: Path) -> Iterator[Audio]:
    """An open file for whoever enters, for `window` alone; kept for the next one. Raises as `take_in`.

    Two at once get one each. A file that was written anew is opened anew.
    """
    try:
        state = path.stat()
        key = path, state.st_mtime_ns, state.st_size
    except OSError:
        key = path, 0, 0  # opening it says what is wrong
    with _lock:
        audio = _waiting.pop(key, None)
    audio = audio or take_in(path)
    try:
        yield audio
    except BaseException:
        audio.close()
        raise
    _give_back(key, audio)


def _give_back(key: _Key, audio: Audio) -> None:
    with _lock:
        spare = [_waiting.pop(key)] if key in _waiting else []
        _waiting[key] = audio
        while len(_waiting) > KEPT:
            spare.append(_waiting.popitem(last=False)[1])
    for each in spare:
        each.close()
