"""nice-level plan"""

from pathlib import Path
from typing import Any

import click

from nicelevel.core.process import Member, plans_of_file, workshop_for
from nicelevel.core.specs import Spec
from nicelevel.core.steps import Recipe
from nicelevel.report.as_json import plans_json, steps_json
from nicelevel.report.words import level

from .aims import aim_options, shared_gain, spec_of_aim
from .batch import batch_options, run_batch
from .recipes import recipe_of, recipe_option
from .table import print_table


@click.command()
@batch_options
@aim_options
@recipe_option
def plan(
    files: tuple[str, ...],
    jobs: int,
    as_json: bool,
    spec_name: str | None,
    approved: str | None,
    common_gain: bool,
    recipe_name: str | None,
) -> None:
    """Say how each FILE would land, without writing audio."""
    recipe = recipe_of(recipe_name)
    spec = recipe.on(spec_of_aim(spec_name, approved))
    with shared_gain(files, spec, jobs, common_gain, recipe.steps) as shared:

        def work(_: int, path: str) -> dict[str, Any]:
            return _plan(path, spec, recipe.steps, shared.member(path) if shared else None)

        run_batch(files, work, jobs, as_json, _show)


def _plan(path: str, spec: Spec, recipe: Recipe, member: Member | None) -> dict[str, Any]:
    with workshop_for(Path(path), spec, recipe, member=member) as workshop:
        return plans_json(path, plans_of_file(workshop, spec, member)) | steps_json(workshop.chain())


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
