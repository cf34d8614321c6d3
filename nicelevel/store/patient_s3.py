"""S3 by fsspec, with an end to waiting: a request that the storage accepts and does not answer is given up."""

import asyncio
from typing import Any

from s3fs import S3FileSystem

PIECE_BYTES = 8 << 20
PIECES_AT_ONCE = 4
"""So much of a file goes over in one request, and so many of those at a time."""

SLOWEST_BYTES_PER_S = 250_000
"""A request has a second more for so many bytes of its body."""

PUT_TOGETHER_S = 60.0
"""A storage may put the pieces of a large file together for so long without a word; so may a download stand still."""


class PatientS3(S3FileSystem):  # type: ignore[misc]
    """silence_s: after twice so many seconds without an answer a request is given up.

    s3fs and what it stands on wait without an end where a request is accepted and its body is not taken: for "100
    Continue", and for room in a connection that is full. Their own read timeout begins when all of the body is gone.
    """

    retries = 2

    def __init__(self, silence_s: float, endpoint: str | None = None) -> None:
        self._silence_s = silence_s
        super().__init__(
            use_listings_cache=False,  # others put files there too
            client_kwargs={"endpoint_url": endpoint} if endpoint else {},
            config_kwargs={
                "connect_timeout": 3,
                "read_timeout": PUT_TOGETHER_S,
                "retries": {"total_max_attempts": 1},
            },
        )

    async def _call_s3(self, method: str, *told: Any, **more: Any) -> Any:
        body = more.get("Body")
        size_bytes = len(body) if isinstance(body, bytes) else 0
        allowed_s = 2 * self._silence_s + size_bytes / SLOWEST_BYTES_PER_S
        if method == "complete_multipart_upload":
            allowed_s = max(allowed_s, PUT_TOGETHER_S)
        return await asyncio.wait_for(super()._call_s3(method, *told, **more), allowed_s)

    async def _put_file(self, lpath: str, rpath: str, **more: Any) -> None:
        pieces = {"chunksize": PIECE_BYTES, "max_concurrency": PIECES_AT_ONCE}
        await super()._put_file(lpath, rpath, **pieces, **more)
