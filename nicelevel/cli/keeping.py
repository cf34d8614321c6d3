"""nice-level verify, backup and restore: the commands that keep a data folder."""

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path

import click

from nicelevel.config import read_config

from .bars import progress_bars


@contextmanager
def _progress(name: str) -> Iterator[Callable[[int, int], None]]:
    """Progress in bytes on a bar, or in tenths on lines where there is no terminal."""
    last = -1
    with progress_bars() as bar, bar(name) as progress:

        def tell(done_bytes: int, total_bytes: int) -> None:
            nonlocal last
            ratio = done_bytes / total_bytes if total_bytes else 1.0
            if progress:
                progress(ratio)
            elif int(ratio * 10) > last:
                last = int(ratio * 10)
                click.echo(f"{name}: {10 * last} %", err=True)

        yield tell


@click.command()
@click.option("--job", "job_id", type=int, help="The number of one job, as its address has it; without it all.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for programs.")
def verify(job_id: int | None, as_json: bool) -> None:
    """Read every kept byte again and hold it against its checksum; what is missing is said, here and on its row."""
    from nicelevel.run.reach import reached_database
    from nicelevel.store.database import connected, migrate
    from nicelevel.work.keeping import reconcile

    config = read_config()
    with reached_database(config):
        migrate()
        with connected(), _progress("Checking") as tell:
            found = reconcile(config, job_id, tell)
    for each in found:
        words = f"{each.job}: {each.name}: {each.sentence}"
        click.echo(json.dumps(asdict(each), ensure_ascii=False) if as_json else words)
    if not found and not as_json:
        click.echo("All is there, as it was measured and proved.")
    if found:
        sys.exit(1)


@click.command()
@click.argument("target", type=click.Path(path_type=Path))
def backup(target: Path) -> None:
    """Write all jobs, audio and deliverables into one file; Nice Level may run meanwhile."""
    from nicelevel.run.backup import back_up

    with _progress("Backing up") as tell:
        count = back_up(read_config(), target, tell)
    click.echo(f"{target}: {count} files and the database.")


@click.command()
@click.argument("source", type=click.Path(path_type=Path, exists=True, dir_okay=False))
def restore(source: Path) -> None:
    """Fill an empty data folder from a backup."""
    from nicelevel.run.backup import restore as restore_from

    config = read_config()
    with _progress("Restoring") as tell:
        count = restore_from(config, source, tell)
    click.echo(f"{config.data_folder}: {count} files and the database. `nice-level verify` checks all of them.")
