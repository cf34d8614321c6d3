"""What the channels of a file have in common, and what is lost where they are summed."""

from .in_common import InCommon, listen_in_common, loudness_alone
from .losses import Dip, deepest, level_change_lu, loss_db

__all__ = ["Dip", "InCommon", "deepest", "level_change_lu", "listen_in_common", "loss_db", "loudness_alone"]
