"""A job with files that are taken into it."""

import pytest

from nicelevel.core.digest import sha256_of
from nicelevel.store.jobs import make_job
from nicelevel.store.specs import keep_version
from nicelevel.work.enqueue import enqueue_source
from tests import signals

WAV_FEED = (
    '[spec]\nname = "Feed"\n[loudness]\ntarget = -16.0\ntolerance = 1.0\n[limits]\nmax_true_peak_dbtp = -1.0\n'
    '[method]\nallow = "limiter"\n[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\n'
)


@pytest.fixture
def job(store):
    keep_version("feed", WAV_FEED)
    return make_job("Work", None, ["feed", "full-resolution"])


@pytest.fixture
def take_in(job, store, tmp_path):
    def add(name, signal=None, data=None, **options):
        path = tmp_path / name
        if data is None:
            signals.write(path, signal, **options)
        else:
            path.write_bytes(data)
        digest, size_bytes = sha256_of(path), path.stat().st_size
        store.adopt(path, digest)
        return enqueue_source(job.id, name, digest, size_bytes)

    return add
