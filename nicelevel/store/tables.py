"""All tables."""

from .door_models import DOOR_TABLES
from .models import TABLES as WORK_TABLES

TABLES = (*WORK_TABLES, *DOOR_TABLES)
