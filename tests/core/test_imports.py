"""Imports run one way: web, cli → work → handover → desk → report, store → core. The core knows nothing of them."""

import subprocess
import sys

import pytest

_FORBIDDEN = {
    "nicelevel.core.process": ("flask", "peewee", "psycopg", "procrastinate", "click", "rich", "nicelevel.report"),
    "nicelevel.report.as_json": ("flask", "peewee", "psycopg", "procrastinate", "nicelevel.store", "nicelevel.web"),
    "nicelevel.store": (
        "flask",
        "procrastinate",
        "nicelevel.desk",
        "nicelevel.web",
        "nicelevel.work",
        "nicelevel.cli",
    ),
    "nicelevel.desk": ("flask", "procrastinate", "nicelevel.web", "nicelevel.work", "nicelevel.cli"),
    "nicelevel.handover.package": ("flask", "procrastinate", "nicelevel.web", "nicelevel.work", "nicelevel.cli"),
    "nicelevel.handover.receiver": ("flask", "peewee", "nicelevel.store", "nicelevel.web"),
    "nicelevel.stand_ins.receiving_desk.app": ("peewee", "psycopg", "nicelevel.store", "nicelevel.web"),
    "nicelevel.work": ("flask", "nicelevel.web", "nicelevel.cli"),
    "nicelevel.cli.measure": ("flask", "peewee", "psycopg", "procrastinate", "nicelevel.store"),
}

_LOAD_ALL = """
import importlib, pkgutil, sys
package = importlib.import_module(sys.argv[1])
for each in pkgutil.walk_packages(getattr(package, "__path__", ()), sys.argv[1] + "."):
    importlib.import_module(each.name)
print(*sys.modules)
"""


@pytest.mark.parametrize("module", _FORBIDDEN)
def test_imports_run_one_way(module):
    """Of a package all modules are loaded: its own file may be a docstring."""
    loaded = _loaded_with(module)
    assert module in loaded
    wrong = [name for name in loaded if any(name == bad or name.startswith(f"{bad}.") for bad in _FORBIDDEN[module])]
    assert wrong == []


def test_a_wrong_import_would_be_seen():
    assert {"flask", "peewee", "nicelevel.core.process"} <= set(_loaded_with("nicelevel.web"))


def _loaded_with(module: str) -> list[str]:
    done = subprocess.run([sys.executable, "-c", _LOAD_ALL, module], capture_output=True, text=True, check=True)
    return done.stdout.split()
