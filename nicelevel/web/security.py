"""What every answer says about where its parts may come from: this machine alone."""

from urllib.parse import urlsplit

from flask import Flask, Response, request

from nicelevel.core.errors import NiceLevelError


class UnkeepableError(NiceLevelError):
    """A text with a sign that cannot be kept."""

    code = "unkeepable"


TLS_FOR_S = 180 * 24 * 3600

SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})


class ForeignError(NiceLevelError):
    """A page of another site asks for a change."""

    code = "foreign"


POLICY = "; ".join(
    (
        "default-src 'self'",
        "img-src 'self' data:",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
"""Scripts and styles come from files of ours only; inline ones do not run (Alpine in its CSP build)."""


def _refuse_foreign() -> None:
    """A change is asked for by pages of ours alone, whatever token another page has got hold of."""
    if request.method in SAFE_METHODS:
        return
    origin = request.headers.get("Origin")
    is_ours = origin is None or urlsplit(origin).netloc == request.host
    if not is_ours or request.headers.get("Sec-Fetch-Site") == "cross-site":
        raise ForeignError("A page of another site asked for this, so it was not done.")


def _refuse_unkeepable() -> None:
    """A sign that no database keeps in a text (NUL) is refused before anything is done with it."""
    # The name of a file is not kept as it comes: whatever cannot be shown is taken out of it.
    said = [request.path, *request.args.keys(), *(text for key, text in request.args.items() if key != "name")]
    if request.mimetype in ("application/x-www-form-urlencoded", "multipart/form-data"):
        said += [*request.form.keys(), *request.form.values()]
    if any("\0" in text for text in said):
        raise UnkeepableError("There is a sign in this that cannot be kept (NUL); leave it out.")


def register(app: Flask) -> None:
    app.before_request(_refuse_foreign)
    app.before_request(_refuse_unkeepable)

    @app.after_request
    def add_headers(response: Response) -> Response:
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.vary.add("Accept")  # the same address answers programs in JSON
        response.headers.setdefault("Referrer-Policy", "same-origin")
        response.headers.setdefault("Cross-Origin-Opener-Policy", "same-origin")
        if request.is_secure:
            response.headers.setdefault("Strict-Transport-Security", f"max-age={TLS_FOR_S}")
        return response
