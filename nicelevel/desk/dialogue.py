"""What is spoken in a source, listened to when it is first asked for."""

from functools import lru_cache

from nicelevel.core.files import take_in
from nicelevel.core.speech import Dialogue, dialogue_of
from nicelevel.store.audio import AudioFolder


@lru_cache(maxsize=512)
def dialogue_in(digest: str, audio: AudioFolder) -> Dialogue:
    """Of some contents as they came. Raises as a file that cannot be read."""
    with take_in(audio.existing_path(digest)) as opened:
        return dialogue_of(opened)
