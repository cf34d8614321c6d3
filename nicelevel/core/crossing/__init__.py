"""What the channels of a file have in common, and what is lost where they are summed."""

from .in_common import InCommon, listen_in_common, loudness_alone
from .losses import Dip, deepest, level_change_lu, loss_db
from .sides import Mono, Sides, listen_to_sides, propose_sides, sentence_of_sides

__all__ = [
    "Dip",
    "InCommon",
    "Mono",
    "Sides",
    "deepest",
    "level_change_lu",
    "listen_in_common",
    "listen_to_sides",
    "loss_db",
    "loudness_alone",
    "propose_sides",
    "sentence_of_sides",
]
