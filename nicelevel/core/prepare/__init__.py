"""From a source to the signal that is levelled: folded down and resampled, where its destination asks for it."""

from .held import Kept
from .prepared import Find, Prepared, prepare
from .steps import UNTOUCHED, preparation_for
from .workshop import Workshop

__all__ = ["UNTOUCHED", "Find", "Kept", "Prepared", "Workshop", "preparation_for", "prepare"]
