"""The command `nice-level`: one subcommand per stage."""

import atexit
import gc

# A command loads a lot, computes and ends. Looking for circles of dead objects while modules load, and once more at
# the end, would be a seventh of the start; what computes lives in arrays, which need no such search.
gc.set_threshold(100_000, 20, 20)
atexit.register(gc.freeze)
