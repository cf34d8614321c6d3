"""The web server: waitress, which takes a request to a thread only when all of it has come.

So senders that stand still keep nobody from being served, however many they are.
"""

import gc
import tempfile

from waitress import serve as serve_for_ever

from nicelevel.config import Config
from nicelevel.logs import arrange_logs
from nicelevel.own_process import arrange_process
from nicelevel.store.depot import open_depot

from .app import create_app
from .getting_ready import get_ready_beside

THREADS = 24
WAITED_FOR_S = 5.0
"""Who asks for a page waits so long for an object storage that is away."""

SILENT_S = 60
"""A connection on which nothing has moved for so long is closed."""

MOST_CONNECTIONS = 1000

COLLECTED_AFTER = (100_000, 20, 20)
"""Objects that came since the last look for cycles, and looks between larger ones. A large job is told from a million
objects that come at once and are in no cycle: looked through after every 700 of them, as Python does by itself, its
first page takes half as long again."""


def serve(config: Config) -> None:
    """Serve the application until told to stop."""
    arrange_process()
    arrange_logs("web", as_json=config.logs == "json")
    open_depot(config, WAITED_FOR_S)
    app = create_app(config, config.database_url)
    gc.freeze()
    gc.set_threshold(*COLLECTED_AFTER)
    get_ready_beside(app)
    # What comes in waits on the disk that it is for.
    tempfile.tempdir = str(config.uploads_folder)
    serve_for_ever(
        app,
        host=config.address,
        port=config.port,
        threads=THREADS,
        ident=None,
        channel_timeout=SILENT_S,
        cleanup_interval=10,
        connection_limit=MOST_CONNECTIONS,
        asyncore_use_poll=True,
        # Which proxy is believed is decided once, by the application, for every server that it runs on.
        clear_untrusted_proxy_headers=False,
        max_request_body_size=config.largest_upload_bytes,
    )
