"""nice-level watch"""

import json
import time
from pathlib import Path
from typing import Any

import click

from nicelevel.core.arrivals import Line, Outcome, Settling, open_line
from nicelevel.core.errors import NiceLevelError, NoSpaceError, NotFoundError
from nicelevel.core.specs import load_spec

from .batch import ending_at_once
from .recipes import recipe_of, recipe_option

LOOKS_PER_SETTLING, SHORTEST_S, LONGEST_S = 4, 0.05, 1.0
AGAIN_S = 5.0
"""After a full disk."""


@click.command()
@recipe_option
@click.option("--in", "folder", required=True, type=click.Path(path_type=Path, exists=True, file_okay=False))
@click.option("--spec", "spec_name", required=True, help="A shipped spec's slug, or the path of a spec file.")
@click.option("--publish", required=True, type=click.Path(path_type=Path, file_okay=False), help="Where to.")
@click.option("--as", "name", default="{title}", help="Under which name: {title}, {hour}, {date}.", show_default=True)
@click.option("--hold", type=click.Path(path_type=Path, file_okay=False), help="Where what fails is copied to.")
@click.option("--settle-s", default=2.0, type=click.FloatRange(min=0.05), help="How long a file must be still.")
@click.option("--once", is_flag=True, help="End when all is quiet.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for programs.")
def watch(
    folder: Path,
    spec_name: str,
    recipe_name: str | None,
    publish: Path,
    name: str,
    hold: Path | None,
    settle_s: float,
    once: bool,
    as_json: bool,
) -> None:
    """Publish whatever comes into a folder, levelled and proved, whole or not at all."""
    line = open_line(load_spec(spec_name), recipe_of(recipe_name).steps, publish, name, hold)
    failed = False
    try:
        with ending_at_once("What was published is whole."):
            for outcome in _outcomes(line, Settling(folder, settle_s), settle_s, once):
                failed = failed or outcome.error is not None
                _say(outcome, as_json)
    finally:
        line.memory.close()
    if failed and once:
        raise click.exceptions.Exit(1)


def _outcomes(line: Line, settling: Settling, settle_s: float, once: bool) -> Any:
    """One after the other, the oldest arrival first; ends with `once` when nothing is left to wait for."""
    pause_s = min(LONGEST_S, max(SHORTEST_S, settle_s / LOOKS_PER_SETTLING))
    handled: set[str] = set()
    while True:
        try:
            ready = settling.look(time.monotonic())
        except NotFoundError as error:
            if once:
                raise
            click.echo(f"nice-level: {error.message} It is tried again.", err=True)
            time.sleep(AGAIN_S)
            continue
        waits = [each for each in ready if not line.is_done(each)]
        handled = {each.path.name for each in ready} - {each.path.name for each in waits}
        if not waits and once:
            if not settling.waits_for(handled):
                return
            waits = _cut_ones(line, settling, handled)
        for arrival in waits:
            try:
                if outcome := line.handle(arrival):
                    yield outcome
            except NiceLevelError as error:
                # It says nothing of the arrival, which is as it was: the disk or the folder published into.
                if once and not isinstance(error, NoSpaceError):
                    raise
                click.echo(f"nice-level: {error.message} It is tried again.", err=True)
                time.sleep(AGAIN_S)
                break
        time.sleep(0.0 if waits else pause_s)


def _cut_ones(line: Line, settling: Settling, handled: set[str]) -> list[Any]:
    """Where only what is still but cut is left, that; nothing while anything has not settled."""
    last = [each for each in settling.look(time.monotonic(), is_last=True) if not line.is_done(each)]
    return last if not settling.waits_for(handled | {each.path.name for each in last}) else []


def _say(outcome: Outcome, as_json: bool) -> None:
    if as_json:
        click.echo(json.dumps(_outcome_json(outcome), ensure_ascii=False))
    elif outcome.error:
        where = f" It is held as {outcome.held}." if outcome.held else ""
        click.echo(f"{outcome.path.name}: {outcome.error.message}{where}", err=True)
    else:
        click.echo(f"{outcome.path.name} is published as {', '.join(each.name for each in outcome.published)}.")


def _outcome_json(outcome: Outcome) -> dict[str, Any]:
    if outcome.error:
        return {
            "path": str(outcome.path),
            "error": {"code": outcome.error.code, "message": outcome.error.message},
            "held": str(outcome.held) if outcome.held else None,
        }
    first, *others = map(str, outcome.published)
    more = {"also": others} if others else {}
    return {"path": str(outcome.path), "published": first, "sha256": outcome.sha256} | more
