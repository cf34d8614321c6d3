"""Hearing: any seconds of a source, a plan or a written file, for two loudspeakers, at one loudness."""

from .blind import Score, score
from .levels import HeardLevel, heard_lufs, matched_gains_db, real_gains_db
from .places import Join, Stop, joins_of, stops_of
from .programmes import (
    DifferenceOf,
    FileProgramme,
    Finish,
    NoiseOf,
    PlanProgramme,
    heard_piece,
)

__all__ = [
    "DifferenceOf",
    "FileProgramme",
    "Finish",
    "HeardLevel",
    "Join",
    "NoiseOf",
    "PlanProgramme",
    "Score",
    "Stop",
    "heard_lufs",
    "heard_piece",
    "joins_of",
    "matched_gains_db",
    "real_gains_db",
    "score",
    "stops_of",
]
