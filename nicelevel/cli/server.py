"""The commands that start and keep up the web application. They load their parts only when called."""

from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from nicelevel.config import Config


@click.command()
def serve() -> None:
    """Start the web application with its database and a worker."""
    from nicelevel.config import read_config
    from nicelevel.run.supervisor import serve as serve_all

    serve_all(read_config())


@click.command()
def migrate() -> None:
    """Bring the tables of the database up to this version; serve does it by itself."""
    from nicelevel.store.database import migrate as migrate_store
    from nicelevel.store.database import open_database
    from nicelevel.work.app import prepare_queue

    config = _over_a_database()
    open_database(config.database_url)
    done = migrate_store()
    prepare_queue(config.database_url)
    click.echo(f"{len(done)} changes were made." if done else "The tables are of this version already.")


@click.command()
def web() -> None:
    """Start the web server alone, on the database and the folder of the settings."""
    from nicelevel.web.serve import serve as serve_web

    serve_web(_over_a_database())


@click.command(hidden=True)
def desk() -> None:
    """Start the receiving desk alone, a stand-in that ships with Nice Level."""
    from nicelevel.config import read_config
    from nicelevel.stand_ins.receiving_desk.serve import serve as serve_desk

    serve_desk(read_config())


def _over_a_database() -> "Config":
    from nicelevel.config import read_config
    from nicelevel.core.errors import SpecError

    config = read_config()
    if not config.database_url:
        raise SpecError("NICE_LEVEL_DATABASE_URL: this needs to be told its database")
    return config


@click.command()
def worker() -> None:
    """Start one more worker on the database and the folder of the settings."""
    from nicelevel.work.worker import run_worker

    config = _over_a_database()
    run_worker(config, config.database_url)


@click.command("try-task", hidden=True)
@click.argument("name")
@click.argument("attempts", type=int)
@click.argument("arguments")
def try_task(name: str, attempts: int, arguments: str) -> int:
    """Do one task of the queue in this process alone; what a worker starts where a first try was lost."""
    import json
    import os
    import signal

    from nicelevel.config import read_config
    from nicelevel.logs import arrange_logs, begin_trace
    from nicelevel.store.database import open_database, process_ends
    from nicelevel.store.depot import open_depot
    from nicelevel.work import trying
    from nicelevel.work.app import queue
    from nicelevel.work.worker import STORAGE_AWAY_S

    signal.signal(signal.SIGTERM, lambda *_: process_ends.set())
    config = read_config()
    arrange_logs("worker", as_json=config.logs == "json")
    begin_trace(os.environ.get("NICE_LEVEL_TRACE", ""))
    open_database(config.database_url)
    open_depot(config, STORAGE_AWAY_S)
    queue.perform_import_paths()
    return trying.try_task(name, trying.Call(config, attempts, process_ends.is_set), json.loads(arguments))


@click.command()
def warm() -> None:
    """Compile the measuring code once; set-up does this."""
    from nicelevel.core.warm import compile_kernels

    compile_kernels()
