"""The application, made from its configuration by one function."""

import hashlib

from flask import Flask, g, request
from werkzeug.middleware.proxy_fix import ProxyFix

from nicelevel.config import Config
from nicelevel.core.words import clock_time
from nicelevel.desk.mending import mend_words
from nicelevel.handover.receiver import shown_address
from nicelevel.report import before_after, board_words, spec_words, sum_words, words
from nicelevel.report import recipe_words as words_of_recipes
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import database, open_database
from nicelevel.store.recipes import known_recipes
from nicelevel.store.specs import spec_of

from . import counting, errors, gate, giving_way, security, static_files
from .arrivals import arrivals
from .changes import Changes, changes
from .channels import channels
from .clients import clients, links
from .deliverables import deliverables
from .doors import doors
from .handover import handover
from .hearing import hearing
from .house import house
from .jobs import jobs
from .lines import lines
from .openapi import openapi
from .people import people
from .preparing import preparing, recipe_words
from .proofs import proofs
from .readings import readings
from .recipes import recipes
from .rules import rules
from .runs import add_running, runs
from .sources import sources
from .specs import specs
from .uploads import uploads
from .voice import voice
from .watched import register as watched_from_outside
from .watched import watched

CSRF_LIFE_S = 7 * 24 * 3600


def create_app(config: Config, database_url: str) -> Flask:
    """The WSGI application over one database and one data folder."""
    app = Flask(__name__, static_folder=None)
    app.config.update(
        SECRET_KEY=config.secret("session"),
        MAX_CONTENT_LENGTH=config.largest_upload_bytes,
        TRUSTED_HOSTS=list(config.hosts),
        # Cookies know hosts and no ports: another program on this machine must not take ours for its own.
        SESSION_COOKIE_NAME=f"nice_level_{_mark_of(config)}",
        # A link in a mail leads to a page that somebody is signed in for; what changes something has its own token.
        SESSION_COOKIE_SAMESITE="Lax" if config.accounts else "Strict",
        WTF_CSRF_TIME_LIMIT=CSRF_LIFE_S,
        # Where a change is asked from is told by Origin (`security`); pages for clients send no Referer.
        WTF_CSRF_SSL_STRICT=False,
        NICE_LEVEL=config,
        DATABASE_URL=database_url,
        AUDIO=AudioFolder(config.audio_folder),
    )
    for folder in (config.audio_folder, config.deliverables_folder, config.uploads_folder):
        folder.mkdir(parents=True, exist_ok=True)
    open_database(database_url)
    app.extensions["changes"] = Changes(database_url)
    of_jobs, of_files = (jobs, sources, uploads, handover, runs, changes), (readings, hearing, deliverables, proofs)
    of_people = (doors, people, house, links, clients, watched, openapi)
    for blueprint in (
        *of_jobs,
        *of_files,
        specs,
        preparing,
        channels,
        recipes,
        rules,
        voice,
        arrivals,
        lines,
        *of_people,
    ):
        app.register_blueprint(blueprint)
    app.context_processor(add_running)
    if config.proxies:
        count = config.proxies
        app.wsgi_app = ProxyFix(app.wsgi_app, x_for=count, x_proto=count, x_host=count)  # type: ignore[method-assign]
    app.session_interface = gate.Sessions()
    watched_from_outside(app)
    static_files.register(app)
    giving_way.register(app)
    counting.register(app)
    security.register(app)
    _use_database_per_request(app)
    gate.register(app)
    errors.register(app)
    _teach_templates(app)
    return app


def _mark_of(config: Config) -> str:
    """A few signs that are another data folder's own."""
    return hashlib.sha256(str(config.data_folder).encode()).hexdigest()[:12]


def _teach_templates(app: Flask) -> None:
    """What templates may call: words and drawings of the report package."""
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.globals.update({name: getattr(words, name) for name in words.__all__})
    for function in (
        clock_time,
        spec_words.spec_line,
        spec_words.short_demand,
        board_words.note_word,
        board_words.short_note,
        board_words.aside_word,
        board_words.aside_sentence,
        board_words.short_word,
        board_words.can_be_tried_again,
        board_words.failed_word,
        board_words.headline,
        board_words.figure_rows,
        board_words.fact_rows,
        board_words.aim_level,
        sum_words.draw_residual,
        before_after.blind_words,
        words_of_recipes.recipe_line,
        words_of_recipes.steps_line,
        words_of_recipes.limiter_line,
        mend_words,
        recipe_words,
        spec_of,
        shown_address,
    ):
        app.jinja_env.globals[function.__name__] = function
    app.jinja_env.globals["recipes"] = lambda: [each.recipe for each in known_recipes().values()]


def _use_database_per_request(app: Flask) -> None:
    @app.before_request
    def connect() -> None:
        if request.blueprint == changes.name or request.endpoint == "static":
            return
        g.opened = database.connect(reuse_if_open=True)

    @app.teardown_request
    def release(error: BaseException | None) -> None:
        if g.pop("opened", False):
            database.close()
