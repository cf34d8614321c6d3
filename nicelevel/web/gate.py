"""Who is asking: at this machine anybody; with accounts whoever is signed in, or a program by its token.

What each address needs stands in one table here; every request passes `_let_in`.
"""

import threading
import time
from datetime import timedelta
from typing import Any

from flask import (
    Flask,
    Response,
    current_app,
    g,
    redirect,
    request,
    session,
    url_for,
)
from flask.sessions import SecureCookieSessionInterface
from flask_login import AnonymousUserMixin, LoginManager, UserMixin, current_user, login_user
from flask_wtf import CSRFProtect
from werkzeug.exceptions import SecurityError

from nicelevel.config import Config
from nicelevel.core.errors import NiceLevelError
from nicelevel.desk.doors import Visitor, by_token, signed_in
from nicelevel.desk.rights import ALL_RIGHTS, REFUSALS, Right
from nicelevel.store.database import GONE, connected
from nicelevel.store.journal import THIS_MACHINE, act_as

from .changes import changes
from .for_programs import wants_page
from .security import SAFE_METHODS

csrf = CSRFProtect()

RIGHT_OF: dict[str, Right] = {
    # Whole files, as they came or as they are handed over.
    "deliverables.download": "fetch",
    "deliverables.download_all": "fetch",
    "handover.package": "fetch",
    "handover.joined": "fetch",
    # The address of a client's link opens what it opens for whoever has it.
    "links.index": "change",
    # Asked for by POST, and nothing that others see changes by it.
    "specs.draft": "look",
    "preparing.draft": "look",
    "channels.draft": "look",
    "hearing.begin": "look",
    "hearing.answer": "look",
    "jobs.seen": "look",
    "people.own_password": "look",
    "people.end_own": "look",
    "people.add_token": "look",
    "people.withdraw": "look",
    # What goes on air.
    "arrivals.all_the_same": "publish",
    "arrivals.again": "publish",
    "arrivals.back_on_air": "publish",
    "arrivals.undo_here": "operate",
    "lines.new": "operate",
    "lines.edit": "operate",
    "lines.add": "operate",
    "lines.change": "operate",
    "lines.delete": "operate",
    "lines.take_in": "operate",
    # What is of the house.
    "jobs.empty_trash": "operate",
    "people.index": "operate",
    "people.add": "operate",
    "people.change": "operate",
    "people.invite": "operate",
    "people.end": "operate",
    "house.settings": "operate",
    "house.room": "operate",
    "house.let_copies_go": "operate",
    "watched.metrics": "operate",
}
"""What an address needs, where it is not what its method says: looking for those that only read, changing else."""

OPEN = frozenset({"static", "doors.page", "doors.come_in", "doors.invited_page", "doors.choose", "watched.health"})
"""Asked for by whoever is not signed in yet. What a client is shown has a door of its own (`clients`)."""

ASKED_BY_PAGES = frozenset({"runs.now"})

AT_THE_DOOR = "at the door"
"""Who acts while nobody is signed in yet."""

REMEMBERED_S, OUTAGE_S = 2.0, 60.0
"""A page asks several times a second whether something changed: so long nobody is looked up again, and so long
somebody who was let in stays in while the database does not answer."""


class SignedOutError(NiceLevelError):
    """Nobody is signed in."""

    code = "signed_out"


class NotAllowedError(NiceLevelError):
    """Somebody is, and may not do this."""

    code = "not_allowed"


class Sessions(SecureCookieSessionInterface):
    """Over TLS the cookie is for TLS alone."""

    def get_cookie_secure(self, app: Flask) -> bool:
        return request.is_secure


class Known(UserMixin):  # type: ignore[misc]
    """Whoever is signed in, for Flask-Login."""

    def __init__(self, visitor: Visitor) -> None:
        self.visitor = visitor

    def get_id(self) -> str:
        return self.visitor.key


class Unknown(AnonymousUserMixin):  # type: ignore[misc]
    """Nobody who is known: at this machine all may come in, elsewhere nobody."""

    @property
    def visitor(self) -> Visitor:
        at_home = not app_config().accounts
        return Visitor(None, THIS_MACHINE if at_home else "", ALL_RIGHTS if at_home else frozenset())


class _Remembered:
    """Who came in with which key, for a moment. May be used from many threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._known: dict[str, tuple[Visitor | None, float]] = {}

    def of(self, key: str, look_up: Any) -> Visitor | None:
        now_s = time.monotonic()
        with self._lock:
            visitor, at_s = self._known.get(key, (None, -OUTAGE_S))
        if now_s - at_s < REMEMBERED_S:
            return visitor
        try:
            with connected():
                found: Visitor | None = look_up()
        except GONE:
            if now_s - at_s < OUTAGE_S:
                return visitor
            raise
        with self._lock:
            self._known = {each: kept for each, kept in self._known.items() if now_s - kept[1] < OUTAGE_S}
            self._known[key] = (found, now_s)
        return found

    def forget(self) -> None:
        """Look everybody up again: somebody left, or may do other things now."""
        with self._lock:
            self._known = {}


def register(app: Flask) -> None:
    """To be called once requests have their connection to the database."""
    # Programs with a token come without a page, so without a page's token: asked for in `_let_in`, of browsers alone.
    app.config["WTF_CSRF_CHECK_DEFAULT"] = False
    csrf.init_app(app)
    app.extensions["remembered"] = _Remembered()
    manager = LoginManager(app)
    manager.anonymous_user = Unknown
    manager.session_protection = None  # who moves to another network is still who they are
    manager.user_loader(_by_session)
    manager.request_loader(_by_token)
    app.before_request(_let_in)
    app.context_processor(
        lambda: {"visitor": visitor, "with_accounts": app_config().accounts, "may": may, "may_words": may_words}
    )


def visitor() -> Visitor:
    """Who asks."""
    found: Visitor = current_user.visitor
    return found


def may(right: Right) -> bool:
    return right in visitor().rights


def may_words() -> str:
    """All that whoever asks may do; nothing is looked up for it where something went wrong."""
    return " ".join(sorted(g.get("rights", ())))


def forget_remembered() -> None:
    current_app.extensions["remembered"].forget()


def right_for(endpoint: str, method: str) -> Right:
    """What is needed to ask for something."""
    return RIGHT_OF.get(endpoint, "look" if method in SAFE_METHODS else "change")


def _by_session(key: str) -> Known | None:
    if not app_config().accounts:
        return None
    idle_for = timedelta(hours=app_config().signed_in_hours)
    # A page that is left open asks by itself: that is no use of it.
    is_use = request.blueprint != changes.name and request.endpoint not in ASKED_BY_PAGES
    kind = "session" if is_use else "page"
    found = current_app.extensions["remembered"].of(f"{kind} {key}", lambda: signed_in(key, idle_for, is_use))
    return Known(found) if found else None


def _by_token(asked: Any) -> Known | None:
    scheme, _, token = asked.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not app_config().accounts:
        return None
    found = current_app.extensions["remembered"].of(f"token {token}", lambda: by_token(token.strip()))
    return Known(found) if found else None


def _let_in() -> Any:
    endpoint = request.endpoint or ""
    act_as(AT_THE_DOOR)  # whoever this thread served before does nothing here
    if isinstance(request.routing_exception, SecurityError):
        raise request.routing_exception  # another name than ours
    if request.blueprint == "clients" or endpoint in OPEN:
        _check_page(endpoint)
        return None
    _refuse_unsecured_proxy()
    if not current_user.is_authenticated and app_config().accounts:
        return _to_sign_in()
    act_as(visitor().name)
    g.rights = visitor().rights
    if visitor().key or not app_config().accounts:
        # Who came in by a browser; a program with a token has no page, and no browser sends a token by itself.
        _check_page(endpoint)
    needed = right_for(endpoint, request.method)
    if endpoint and needed not in visitor().rights:
        raise NotAllowedError(REFUSALS[needed])
    return None


def _check_page(endpoint: str) -> None:
    """A change is asked for with the token of a page of ours."""
    if endpoint != "static" and request.method not in SAFE_METHODS and current_app.config["WTF_CSRF_ENABLED"]:
        csrf.protect()


def _refuse_unsecured_proxy() -> None:
    """Who is passed on by a proxy is not at this machine."""
    if not app_config().accounts and ("X-Forwarded-For" in request.headers or "Forwarded" in request.headers):
        raise SignedOutError(
            "This came through a proxy, so from elsewhere, and nobody signs in here: set NICE_LEVEL_ACCOUNTS=yes."
        )


def _to_sign_in() -> Response:
    if request.method == "GET" and wants_page() and request.blueprint != changes.name:
        where = request.full_path.rstrip("?")
        return redirect(url_for("doors.page", next=where if where != "/" else None))  # type: ignore[return-value]
    raise SignedOutError("You are signed out. Sign in again in another window, then go on here: nothing is lost.")


def let(token: str) -> None:
    """Nothing of the session before goes on: a key that somebody else may have planted opens nothing."""
    session.clear()
    found = signed_in(token, timedelta(hours=app_config().signed_in_hours))
    if found:
        login_user(Known(found))


def from_where() -> str:
    return request.remote_addr or "unknown"


def app_config() -> Config:
    config: Config = current_app.config["NICE_LEVEL"]
    return config
