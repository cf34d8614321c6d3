"""The web server: waitress, which takes a request to a thread only when all of it has come.

So senders that stand still keep nobody from being served, however many they are.
"""

import tempfile

from waitress import serve as serve_for_ever

from nicelevel.config import Config
from nicelevel.own_process import arrange_process

from .app import create_app

THREADS = 24
SILENT_S = 60
"""A connection on which nothing has moved for so long is closed."""

MOST_CONNECTIONS = 1000


def serve(config: Config) -> None:
    """Serve the application on loopback until told to stop."""
    arrange_process()
    app = create_app(config, config.database_url)
    # What comes in waits on the disk that it is for.
    tempfile.tempdir = str(config.uploads_folder)
    serve_for_ever(
        app,
        host="127.0.0.1",
        port=config.port,
        threads=THREADS,
        ident=None,
        channel_timeout=SILENT_S,
        cleanup_interval=10,
        connection_limit=MOST_CONNECTIONS,
        asyncore_use_poll=True,
        max_request_body_size=config.largest_upload_bytes,
    )
