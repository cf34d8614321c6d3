"""nice-level check"""

from pathlib import Path
from typing import Any

import click

from nicelevel.core.prove import measured_for
from nicelevel.core.specs import judge, load_spec
from nicelevel.report.as_json import check_json
from nicelevel.report.words import level

from .batch import batch_options, run_batch
from .table import print_table


@click.command()
@batch_options
@click.option("--spec", "spec_name", required=True, help="A shipped spec's slug, or the path of a spec file.")
def check(files: tuple[str, ...], jobs: int, as_json: bool, spec_name: str) -> None:
    """Judge each FILE as it stands, rule by rule."""
    spec = load_spec(spec_name)
    run_batch(
        files, lambda _, path: check_json(path, judge(measured_for(Path(path), spec), spec)), jobs, as_json, _show
    )


def _show(answers: list[dict[str, Any]]) -> None:
    rows = [
        [
            answer["path"] if number == 0 else "",
            answer["verdict"] if number == 0 else "",
            finding["text"],
            *_found(finding),
        ]
        for answer in answers
        for number, finding in enumerate(answer["findings"])
    ]
    print_table(("file", "verdict", "rule", "found", ""), rows, left=3)


def _found(finding: dict[str, Any]) -> list[str]:
    found = finding["found"]
    text = level(found, decimals=2) if isinstance(found, float) or found is None else str(found)
    return [text, "meets" if finding["meets"] else "misses"]
