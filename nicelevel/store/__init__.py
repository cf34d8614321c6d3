"""What is kept: jobs, sources, readings, destinations and deliverables in PostgreSQL, audio beside it.

models.py holds columns and constraints; each other file the named queries of one noun, core values in and out.
"""

from .database import connected, database, open_database
from .models import Deliverable, Destination, Job, Reading, Source, SpecVersion

__all__ = [
    "Deliverable",
    "Destination",
    "Job",
    "Reading",
    "Source",
    "SpecVersion",
    "connected",
    "database",
    "open_database",
]
