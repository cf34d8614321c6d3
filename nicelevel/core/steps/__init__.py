"""What a person or a destination asks to be done to a source, in seconds and dB: a file for each step, a row for each
in the table. Steps are made of stages.
"""

from .chain import Chain, Recipe, resolve
from .found import FoundOf, listen
from .step import Found, Step
from .table import STEPS, recipe_from_json, recipe_to_json

__all__ = [
    "STEPS",
    "Chain",
    "Found",
    "FoundOf",
    "Recipe",
    "Step",
    "listen",
    "recipe_from_json",
    "recipe_to_json",
    "resolve",
]
