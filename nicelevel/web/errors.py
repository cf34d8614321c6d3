"""Errors become a page or JSON in one place; here, and only here, they get their HTTP status."""

from typing import Any

from flask import Flask, Response, jsonify, render_template
from flask_wtf.csrf import CSRFError
from peewee import InterfaceError, OperationalError
from werkzeug.exceptions import HTTPException, SecurityError

from nicelevel.core.errors import LostError, NiceLevelError, SpecError
from nicelevel.report.words import megabytes
from nicelevel.work.keeping import reconcile

from .for_programs import wants_page
from .matter import DATABASE_AWAY

STATUS_OF_CODE = {
    "not_found": 404,
    "too_large": 413,
    "no_permission": 403,
    "foreign": 403,
    "signed_out": 401,
    "not_allowed": 403,
    "throttled": 429,
    "no_space": 507,
    "storage_away": 503,
    "output_exists": 409,
    "conflict": 409,
    "cannot_meet": 409,
    "spec": 422,
}
_SENTENCES = {
    400: "The request was not understood.",
    404: "There is nothing at this address.",
    405: "This address does not take that kind of request.",
    500: "Something went wrong inside Nice Level; its log says what.",
}

OTHER_NAME = "Nice Level does not answer to this name. Those that it answers to stand in NICE_LEVEL_HOSTS."
_PLAIN = {"Content-Type": "text/plain; charset=utf-8"}


def register(app: Flask) -> None:
    @app.errorhandler(LostError)
    def lost(error: LostError) -> Any:
        # Rows said that something is there, and it is not: from now on they say what is missing.
        reconcile(app.config["NICE_LEVEL"])
        return _answer(503, error.code, error.message)

    @app.errorhandler(NiceLevelError)
    def ours(error: NiceLevelError) -> Any:
        return _answer(STATUS_OF_CODE.get(error.code, 422), error.code, error.message)

    @app.errorhandler(SpecError)
    def broken(error: SpecError) -> Any:
        return _answer(STATUS_OF_CODE[error.code], error.code, error.message, error.key)

    @app.errorhandler(CSRFError)
    def stale(error: CSRFError) -> Any:
        return _answer(400, "stale_page", "This page is too old to be trusted: reload it and try again.")

    @app.errorhandler(413)
    def too_large(error: HTTPException) -> Any:
        largest = megabytes(app.config["MAX_CONTENT_LENGTH"])
        return _answer(413, "too_large", f"The file is larger than the {largest} MB that are taken in.")

    @app.errorhandler(OperationalError)
    @app.errorhandler(InterfaceError)
    def away(error: Exception) -> Any:
        app.logger.warning("the database: %s", error)
        return _answer(503, "database_away", DATABASE_AWAY)

    @app.errorhandler(SecurityError)
    def other_name(error: SecurityError) -> Any:
        # No page of ours: under a name that is not believed none has an address, nor have its parts.
        return Response(OTHER_NAME, 400, _PLAIN) if wants_page() else _told_in_json(400, "other_name", OTHER_NAME)

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> Any:
        status = error.code or 500
        return _answer(status, "http", _SENTENCES.get(status, error.description or error.name))

    @app.errorhandler(Exception)
    def unexpected(error: Exception) -> Any:
        app.logger.exception("unexpected error")
        return _answer(500, "error", _SENTENCES[500])


def _answer(status: int, code: str, message: str, key: str = "") -> Any:
    """key: the field that is wrong, where one is."""
    if wants_page():
        return render_template("error.html", message=message, status=status), status
    return _told_in_json(status, code, message, key)


def _told_in_json(status: int, code: str, message: str, key: str = "") -> Any:
    told = {"code": code, "message": message} | ({"key": key} if key else {})
    return jsonify(error=told), status
