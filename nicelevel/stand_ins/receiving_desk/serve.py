"""The desk's own small server."""

from waitress import serve as serve_for_ever

from nicelevel.config import Config

from .app import LARGEST_PACKAGE_BYTES, create_desk

THREADS, SILENT_S = 4, 60


def serve(config: Config) -> None:
    """Serve the desk on loopback until told to stop."""
    serve_for_ever(
        create_desk(config.desk_folder),
        host="127.0.0.1",
        port=config.desk_port,
        threads=THREADS,
        ident=None,
        channel_timeout=SILENT_S,
        asyncore_use_poll=True,
        max_request_body_size=LARGEST_PACKAGE_BYTES,
    )
