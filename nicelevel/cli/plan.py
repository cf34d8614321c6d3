"""nice-level plan"""

from pathlib import Path
from typing import Any

import click

from nicelevel.core.plan import plans
from nicelevel.core.prepare import Workshop
from nicelevel.core.specs import Spec, load_spec
from nicelevel.report.as_json import plans_json
from nicelevel.report.words import level

from .batch import batch_options, run_batch
from .table import print_table


@click.command()
@batch_options
@click.option("--spec", "spec_name", required=True, help="A shipped spec's slug, or the path of a spec file.")
def plan(files: tuple[str, ...], jobs: int, as_json: bool, spec_name: str) -> None:
    """Say how each FILE would land, without writing audio."""
    spec = load_spec(spec_name)
    run_batch(files, lambda _, path: _plan(path, spec), jobs, as_json, _show)


def _plan(path: str, spec: Spec) -> dict[str, Any]:
    with Workshop(Path(path), spec.method.allow == "limiter") as workshop:
        return plans_json(path, plans(workshop.source(), workshop.find, spec))


def _show(answers: list[dict[str, Any]]) -> None:
    rows = [
        [
            answer["path"],
            answer["action"].replace("_", " "),
            " ".join(answer["reasons"]),
            level(answer["gain_db"], signed=True),
            level(answer["limiting_db"]) if answer["limiting_db"] else "",
            level(answer["predicted"]["integrated_lufs"]),
            level(answer["predicted"]["true_peak_dbtp"]),
        ]
        for answer in answers
    ]
    print_table(("file", "plan", "why", "gain dB", "limiting dB", "I LUFS", "TP dBTP"), rows, left=3)
