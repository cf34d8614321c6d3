"""Where somebody speaks: heard before a level of speech can be planned. Nothing is done to the signal."""

from typing import Literal

from ..signals import Signal
from ..speech import dialogue_of
from ..stages import Stage
from ..values import Place, Shape
from .step import Found, Step


class SpeechFound(Found):
    """places: from and to, in seconds."""

    places: tuple[Place, ...]


class Speech(Step):
    """Asked for by a spec whose level is that of what is spoken; never by a person."""

    do: Literal["speech"] = "speech"
    finds = SpeechFound

    def find(self, before: Signal) -> SpeechFound:
        """Listen for a voice, also over music."""
        return SpeechFound(places=dialogue_of(before).places)

    def stages(self, before: Shape, found: Found | None) -> tuple[Stage, ...]:
        return ()

    @property
    def doing(self) -> str:
        return "listened to for speech"

    @property
    def wish(self) -> str:
        return "Hear where somebody speaks."

    def words(self, before: Shape, found: Found | None) -> str:
        return ""
