"""Tokens: only the newest try's word is taken. Rows without a job are queued again; what failed can be done again."""

import pytest

from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import LostError
from nicelevel.desk.contents import Contents
from nicelevel.desk.planning import plans_of
from nicelevel.desk.prepared import PreparationFailedError, prepared_signals
from nicelevel.store import deliverables, sendings, sources
from nicelevel.store.database import database
from nicelevel.store.jobs import add_destination, destinations_of, make_job
from nicelevel.store.models import Deliverable, Preparing, Sending, Source
from nicelevel.store.prepared import end_preparation
from nicelevel.store.readings import load_figures
from nicelevel.store.specs import spec_of
from nicelevel.work.enqueue import enqueue_again_of_source, enqueue_preparations, enqueue_renders, enqueue_source
from nicelevel.work.keeping import reconcile, sweep
from nicelevel.work.reconcile import requeue_forgotten
from tests import signals


@pytest.fixture
def source(store, tmp_path, work_off):
    job = make_job("Tries", None, ["podcast"])
    path = signals.write(tmp_path / "mix.wav", signals.programme(4, seed=2))
    digest, size_bytes = sha256_of(path), path.stat().st_size
    store.adopt(path, digest)
    made = enqueue_source(job.id, "mix.wav", digest, size_bytes)
    work_off()
    return sources.find_source(made.id)


def _queued(source, store):
    (queued,) = enqueue_renders(source, destinations_of(source.job_id)[0], store)
    return deliverables.find_deliverable(queued.id), deliverables.find_deliverable(queued.id)


def test_a_try_that_was_overtaken_saves_nothing(source, store):
    first, second = _queued(source, store)
    assert deliverables.begin_deliverable(first)
    assert deliverables.begin_deliverable(second)
    assert second.token > first.token
    assert not deliverables.save_deliverable(first, "rendering", progress_ratio=0.9)
    assert not deliverables.save_deliverable(first, "proved", file_name="half.wav")
    assert deliverables.save_deliverable(second, "proved", file_name="whole.wav")
    assert not deliverables.save_deliverable(first, "failed", error_code="error")
    kept = Deliverable.get_by_id(first.id)
    assert (kept.state, kept.file_name, kept.token) == ("proved", "whole.wav", second.token)


def test_the_same_holds_for_sources_and_sendings(source):
    sources.queue_source(source)
    one, other = sources.find_source(source.id), sources.find_source(source.id)
    assert sources.begin_source(one)
    assert sources.begin_source(other)
    assert not sources.save_source(one, "failed", error_code="damaged", error_message="No.")
    assert sources.save_source(other, "measured")
    sending = sendings.add_sending(source.job, "http://127.0.0.1:9/")
    one, other = sendings.find_sending(sending.id), sendings.find_sending(sending.id)
    assert sendings.begin_sending(one)
    assert sendings.begin_sending(other)
    assert not sendings.save_sending(one, "accepted")
    assert sendings.save_sending(other, "rejected")


def test_a_file_that_was_made_anew_is_not_lost_with_the_one_before(source, store):
    before, again = _queued(source, store)
    assert deliverables.begin_deliverable(before)
    assert deliverables.save_deliverable(before, "proved", file_name="mix.wav")
    assert deliverables.queue_deliverable(
        deliverables.Asked(source, destinations_of(source.job_id)[0], before.output)
    )
    assert deliverables.begin_deliverable(again)
    assert deliverables.save_deliverable(again, "proved", file_name="mix.wav")
    assert not deliverables.lose_deliverable(before, deliverables.FILE_LOST)
    assert deliverables.lose_deliverable(again, deliverables.FILE_LOST)


def test_what_was_stopped_is_not_begun(source, store):
    first, _ = _queued(source, store)
    assert deliverables.end_deliverable(first, "stopped")
    assert not deliverables.begin_deliverable(first)


def test_rows_that_lost_their_job_are_queued_again_and_come_to_their_end(source, store, work_off, config):
    queued, _ = _queued(source, store)
    sources.queue_source(source)
    add_destination(source.job_id, "compact-disc")
    enqueue_preparations(source.job_id, store)
    Sending.create(job=source.job_id, address="http://127.0.0.1:9/packages", state="sending")
    database.execute_sql("DELETE FROM procrastinate_jobs")
    assert requeue_forgotten() >= 3
    assert requeue_forgotten() == 0
    work_off()
    work_off()
    assert Source.get_by_id(source.id).state == "measured"
    assert Deliverable.get_by_id(queued.id).state == "proved"
    assert Sending.get().state == "failed"
    assert Preparing.select().where(Preparing.state == "queued").count() == 0


def test_a_preparation_that_failed_says_why_and_is_done_again(source, store, work_off):
    place = add_destination(source.job_id, "compact-disc")
    enqueue_preparations(source.job_id, store)
    (row,) = Preparing.select().where(Preparing.state == "queued")
    database.execute_sql("DELETE FROM procrastinate_jobs")
    end_preparation(row.digest, "no_space", "No space is left to write mix.wav.")
    with pytest.raises(PreparationFailedError, match=r"could not be resampled to 44100 Hz.*No space is left"):
        plans_of(source, spec_of(place.spec), store)
    assert enqueue_again_of_source(source)
    work_off()
    assert plans_of(source, spec_of(place.spec), store)[0].output.sample_rate_hz == 44_100
    assert not enqueue_again_of_source(source)


def test_what_is_kept_of_a_source_and_gone_is_an_error_with_a_sentence(source, store):
    (store.audio_path(source.digest).parent / "energies.npy").unlink()
    with pytest.raises(LostError, match="measured again"):
        store.load_curves(source.digest)
    assert load_figures(source.digest, store)
    assert prepared_signals(Contents(source.digest), store)


def test_reconciling_and_sweeping_find_nothing_where_all_is_well(source, store, config, work_off):
    _queued(source, store)
    work_off()
    assert reconcile(config) == []
    assert reconcile(config, source.job_id, lambda done, total: None) == []
    before = sorted(config.data_folder.rglob("*"))
    assert sweep(config) == 0
    assert sorted(config.data_folder.rglob("*")) == before


def test_a_sweep_while_the_studio_runs_leaves_a_try_alone_that_has_just_begun(source, store, config, work_off):
    """It began after the rows were read: its folder has a later token than its row had."""
    _queued(source, store)
    work_off()
    made = deliverables.deliverables_of(source.job_id)[0]
    home = deliverables.home_of(made.id, config.deliverables_folder)
    earlier, later = (home / str(made.token + step) for step in (-1, 1))
    for folder in (earlier, later):
        folder.mkdir()
        (folder / "mix.wav").write_bytes(b"half")
    assert sweep(config) > 0
    assert later.is_dir()
    assert not earlier.exists()
    assert deliverables.file_of(made, config.deliverables_folder).is_file()
