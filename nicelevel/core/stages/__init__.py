"""The few things that can be done to a signal. Every step is made of these, so what renders, plays and draws knows no
step by its name.

Edit takes stretches out of it and puts them together; Mix makes channels of channels; Ride moves its level along a
curve; Filter is linear and reaches a little before and after; Patch mends places.
"""

from .edit import Edit, Stretch
from .filter import Resample
from .mix import Mix
from .patch import Patch
from .ride import Curve, Ride
from .stage import Stage

__all__ = ["Curve", "Edit", "Mix", "Patch", "Resample", "Ride", "Stage", "Stretch"]
