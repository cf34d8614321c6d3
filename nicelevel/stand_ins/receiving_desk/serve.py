"""What gunicorn starts: the desk, with its folder from the environment's settings."""

from flask import Flask

from nicelevel.config import read_config

from .app import create_desk


def app() -> Flask:
    return create_desk(read_config().desk_folder)
