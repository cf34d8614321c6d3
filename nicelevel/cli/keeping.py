"""nice-level verify, backup and restore: the commands that keep a data folder."""

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from datetime import timedelta
from pathlib import Path
from typing import NoReturn

import click

from nicelevel.config import Config, read_config

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
    from nicelevel.store.depot import open_depot
    from nicelevel.work.keeping import reconcile

    config = read_config()
    open_depot(config, patience_s=60.0)
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
@click.argument("target", type=click.Path(path_type=Path), required=False)
@click.option("--check", is_flag=True, help="Read every byte of the newest backup in the folder of backups instead.")
def backup(target: Path | None, check: bool) -> None:
    """Write all jobs, audio and deliverables into one file; Nice Level may run meanwhile.

    Without TARGET: into NICE_LEVEL_BACKUP_FOLDER, where only what is new is written, and what is too old is deleted.
    """
    from nicelevel.run.backup import back_up

    config = read_config()
    if target is None or check:
        folder = target or Path(config.backup_folder or _no_folder())
        _check_newest(folder) if check else _take(config, folder)
        return
    with _progress("Backing up") as tell:
        count = back_up(config, target, tell)
    click.echo(f"{target}: {count} files and the database.")


def _no_folder() -> NoReturn:
    raise click.UsageError("Name the file, or set NICE_LEVEL_BACKUP_FOLDER.")


def _take(config: Config, folder: Path) -> None:
    from nicelevel.run.snapshots import expire_snapshots, take_snapshot

    with _progress("Backing up") as tell:
        taken = take_snapshot(config, folder, tell)
    old, freed_bytes = expire_snapshots(folder, timedelta(days=config.backup_days))
    fresh = f"{taken.fresh} of them new ({_megabytes(taken.fresh_bytes)})"
    expired = f"; {len(old)} old ones deleted ({_megabytes(freed_bytes)})" if old else ""
    click.echo(f"{taken.folder}: {taken.files} files and the database, {fresh}{expired}.")


def _check_newest(folder: Path) -> None:
    from nicelevel.run.snapshots import verify_snapshot
    from nicelevel.store.backups import snapshots

    there = snapshots(folder)
    if not there:
        raise click.UsageError(f"There is no backup in {folder}.")
    with _progress("Checking") as tell:
        wrong = verify_snapshot(there[-1], tell)
    for each in wrong:
        click.echo(each)
    click.echo(f"{there[-1]}: {'damaged.' if wrong else 'all of it is as it was.'}")
    if wrong:
        sys.exit(1)


def _megabytes(size_bytes: int) -> str:
    return f"{size_bytes / 1e6:.1f} MB"


@click.command()
@click.argument("source", type=click.Path(path_type=Path, exists=True))
def restore(source: Path) -> None:
    """Fill an empty data folder from a backup: a file, or one of the folders in the folder of backups."""
    from nicelevel.run.backup import restore as restore_file
    from nicelevel.run.snapshots import restore_snapshot

    config = read_config()
    with _progress("Restoring") as tell:
        count = (restore_snapshot if source.is_dir() else restore_file)(config, source, tell)
    click.echo(f"{config.data_folder}: {count} files and the database. `nice-level verify` checks all of them.")
