"""The few things that can be done to a signal. Every step is made of these, so what renders, plays and draws knows no
step by its name.

Edit takes stretches out of it and puts them together; Mix makes channels of channels; Ride moves its level along a
curve; Resample, HighPass and Turn are linear and reach a little before and after; Patch mends places; Shift moves
channels in time.
"""

from .edit import Edit, Stretch
from .high_pass import HighPass
from .mix import Mix
from .patch import Patch
from .resample import Resample
from .ride import Curve, Ride
from .shift import Shift
from .stage import Stage
from .turn import Turn

__all__ = ["Curve", "Edit", "HighPass", "Mix", "Patch", "Resample", "Ride", "Shift", "Stage", "Stretch", "Turn"]
