"""What gunicorn starts: the application from the environment's settings."""

from flask import Flask

from nicelevel.config import read_config
from nicelevel.memory import arrange_memory

from .app import create_app


def app() -> Flask:
    arrange_memory()
    config = read_config()
    return create_app(config, config.database_url)
