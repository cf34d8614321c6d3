"""The web application: routes of a few lines over store, work and report."""

from .app import create_app

__all__ = ["create_app"]
