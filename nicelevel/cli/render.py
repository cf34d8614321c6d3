"""nice-level render"""

from pathlib import Path
from typing import Any

import click

from nicelevel.core.errors import NiceLevelError, OutputExistsError
from nicelevel.core.files import take_in
from nicelevel.core.plan.formats import left_out
from nicelevel.core.process import bring, targets_of, workshop_for
from nicelevel.core.specs import Spec
from nicelevel.core.steps import Recipe
from nicelevel.report.as_json import deliverable_json, left_out_json, steps_json
from nicelevel.report.words import level

from .aims import CommonGain, aim_options, shared_gain, spec_of_aim
from .bars import Bar, progress_bars
from .batch import batch_options, run_batch
from .recipes import recipe_of, recipe_option
from .table import print_table


@click.command()
@batch_options
@aim_options
@recipe_option
@click.option("--out", "folder", required=True, type=click.Path(path_type=Path), help="Folder for the deliverables.")
@click.option("--replace", is_flag=True, help="Write over outputs that are already there.")
def render(
    files: tuple[str, ...],
    jobs: int,
    as_json: bool,
    spec_name: str | None,
    approved: str | None,
    common_gain: bool,
    recipe_name: str | None,
    folder: Path,
    replace: bool,
) -> None:
    """Write each FILE's deliverables into a folder and prove them."""
    recipe = recipe_of(recipe_name)
    spec = recipe.on(spec_of_aim(spec_name, approved))
    make_folder(folder)
    refused = refusals(files, spec, folder, recipe.steps)

    def work(number: int, path: str) -> dict[str, Any]:
        if refusal := refused[number]:
            raise refusal
        return _render(path, spec, recipe.steps, folder, replace, bar, shared)

    with progress_bars() as bar, shared_gain(files, spec, jobs, common_gain, recipe.steps) as shared:
        run_batch(files, work, jobs, as_json, _show)


def make_folder(folder: Path) -> None:
    """Make the output folder; ends the command with status 2 where that cannot be."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        probe = folder / ".nice-level-probe"
        probe.touch()
        probe.unlink()
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise click.UsageError(f"--out: {folder} cannot be written: {reason}") from error


def refusals(files: tuple[str, ...], spec: Spec, folder: Path, recipe: Recipe = ()) -> list[OutputExistsError | None]:
    """For each input, in order, why its outputs may not be written: they are inputs, or another input's outputs."""
    inputs = {Path(path).resolve() for path in files}
    taken: dict[Path, str] = {}
    answers: list[OutputExistsError | None] = []
    for path in files:
        targets = [target.resolve() for target in _targets(Path(path), spec, folder, recipe)]
        answers.append(_refusal(targets, inputs, taken))
        taken.update({target: path for target in targets if target not in taken})
    return answers


def _targets(path: Path, spec: Spec, folder: Path, recipe: Recipe) -> list[Path]:
    try:
        with take_in(path) as audio:
            return targets_of(audio.source, spec, folder, recipe)
    except NiceLevelError:
        return []  # the work itself will say what is wrong


def _refusal(targets: list[Path], inputs: set[Path], taken: dict[Path, str]) -> OutputExistsError | None:
    for number, target in enumerate(targets):
        if target in inputs:
            return OutputExistsError(f"{target.name} is itself one of the inputs; an input is never written over.")
        if target in taken:
            return OutputExistsError(f"{target.name} is already the output of {taken[target]}.")
        if target in targets[:number]:
            return OutputExistsError(f"Two formats of the spec would both be {target.name}: its name needs {{bits}}.")
    return None


def _render(
    path: str, spec: Spec, recipe: Recipe, folder: Path, replace: bool, bar: Bar, shared: CommonGain | None
) -> dict[str, Any]:
    member = shared.member(path) if shared else None
    leads = shared is not None and member is None
    with bar(Path(path).name) as progress, workshop_for(Path(path), spec, recipe, progress, member) as workshop:
        done = bring(workshop, spec, folder, replace, progress, member, leads)
        without, chain = left_out(workshop.source(), spec), workshop.chain()
    outputs = [*map(deliverable_json, done), *(left_out_json(*each) for each in without)]
    return {"path": path, "outputs": outputs} | steps_json(chain)


def _show(answers: list[dict[str, Any]]) -> None:
    rows = [
        [
            output["path"],
            output["verdict"],
            output["action"].replace("_", " "),
            level(output["gain_db"], signed=True),
            level(output["predicted"]["integrated_lufs"], decimals=2),
            level(output["measured"]["integrated_lufs"], decimals=2),
            level(output["measured"]["true_peak_dbtp"], decimals=2),
        ]
        for answer in answers
        for output in answer["outputs"]
        if "error" not in output
    ]
    print_table(("output", "verdict", "plan", "gain dB", "predicted", "proved LUFS", "dBTP"), rows, left=3)
    for answer in answers:
        for output in answer["outputs"]:
            if "error" in output:
                click.echo(f"{answer['path']}: {output['format']}: {output['error']['message']}", err=True)
