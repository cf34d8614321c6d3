"""Imports run one way: web, cli → work → handover → report, store → core. The core knows nothing of them."""

import subprocess
import sys

import pytest

_FORBIDDEN = {
    "nicelevel.core.process": ("flask", "peewee", "psycopg", "procrastinate", "click", "rich", "nicelevel.report"),
    "nicelevel.report.as_json": ("flask", "peewee", "psycopg", "procrastinate", "nicelevel.store", "nicelevel.web"),
    "nicelevel.store": ("flask", "procrastinate", "nicelevel.web", "nicelevel.work", "nicelevel.cli"),
    "nicelevel.handover.package": ("flask", "procrastinate", "nicelevel.web", "nicelevel.work", "nicelevel.cli"),
    "nicelevel.handover.receiver": ("flask", "peewee", "nicelevel.store", "nicelevel.web"),
    "nicelevel.stand_ins.receiving_desk.app": ("peewee", "psycopg", "nicelevel.store", "nicelevel.web"),
    "nicelevel.work": ("flask", "nicelevel.web", "nicelevel.cli"),
    "nicelevel.cli.measure": ("flask", "peewee", "psycopg", "procrastinate", "nicelevel.store"),
}


@pytest.mark.parametrize("module", _FORBIDDEN)
def test_imports_run_one_way(module):
    code = f"import sys, {module}; print(*sys.modules)"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    wrong = [name for name in loaded if any(name == bad or name.startswith(f"{bad}.") for bad in _FORBIDDEN[module])]
    assert wrong == []
