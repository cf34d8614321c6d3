"""The commands that start and keep up the web application. They load their parts only when called."""

import click


@click.command()
def serve() -> None:
    """Start the web application with its database and a worker."""
    from nicelevel.config import read_config
    from nicelevel.run.supervisor import serve as serve_all

    serve_all(read_config())


@click.command()
def worker() -> None:
    """Start one more worker on the database and the folder of the settings."""
    from nicelevel.config import read_config
    from nicelevel.core.errors import SpecError
    from nicelevel.work.worker import run_worker

    config = read_config()
    if not config.database_url:
        raise SpecError("NICE_LEVEL_DATABASE_URL: a worker needs to be told its database")
    run_worker(config, config.database_url)


@click.command()
def warm() -> None:
    """Compile the measuring code once; set-up does this."""
    from nicelevel.core.warm import compile_kernels

    compile_kernels()
