"""What is kept comes back as it was, and rows say what they may say."""

import json
import math
import threading
from datetime import timedelta

import numpy as np
import peewee
import psycopg
import pytest

from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import SpecError
from nicelevel.core.measure import measure
from nicelevel.core.specs import parse_spec
from nicelevel.store import deliverables, jobs, sources
from nicelevel.store.changes import CHANNEL
from nicelevel.store.database import _runner, database, migrate
from nicelevel.store.models import Deliverable, Destination, Source, SpecVersion
from nicelevel.store.readings import is_measured, known_shape, known_shapes, load_figures, load_reading, save_reading
from nicelevel.store.specs import keep_spec, spec_of
from nicelevel.store.tables import TABLES
from nicelevel.store.trash import empty_trash, trash, trash_source
from tests import signals


def _kept(tmp_path, store, signal, **options):
    """A file in the folder of audio, and its digest."""
    path = signals.write(tmp_path / "upload.wav", signal, **options)
    digest = sha256_of(path)
    store.adopt(path, digest)
    return digest


def test_migrations_make_the_tables_that_the_models_describe(store):
    assert migrate() == []
    for table in TABLES:
        columns = {column.name for column in database.get_columns(table._meta.table_name)}
        assert columns == {field.column_name for field in table._meta.sorted_fields}


TWO_FORMATS = """
[spec]
name = "Two"
[[formats]]
container = "mp3"
bitrate_kbps = 192.0
[[formats]]
container = "wav"
encoding = "pcm_24"
files = "per_channel"
"""


def test_deliverables_of_before_are_known_by_their_formats(store):
    """The older table, filled as it was by place, brought up to date: nothing proved is lost."""
    job = jobs.make_job("Work")
    spec = SpecVersion.create(slug="two", digest="d" * 64, toml=TWO_FORMATS)
    source = sources.add_source(job.id, "mix.wav", "a" * 64, 10)
    place = Destination.create(job=job.id, spec=spec.id, place=9)
    runner = _runner()
    runner.down("0017_outputs")
    wav = {"container": "wav", "encoding": "pcm_24", "sample_rate": 48_000, "layout": "mono"}
    written = [
        {"container": "mp3", "encoding": "mp3", "sample_rate": 48_000, "layout": "stereo", "channel": None},
        {**wav, "channel": "L"},
        {**wav, "channel": "R"},
        None,
    ]
    for number, told in enumerate(written):
        database.execute_sql(
            "INSERT INTO deliverable (source_id, destination_id, spec_id, format_number, state, progress_ratio, plan)"
            " VALUES (%s, %s, %s, %s, %s, 0, %s)",
            (source.id, place.id, spec.id, number, "proved" if told else "failed", json.dumps({"format": told})),
        )
    assert runner.up()[0] == "0017_outputs"
    found = [each.output for each in Deliverable.select().order_by(Deliverable.id)]
    assert found == [
        "1 · mp3 mp3 keep keep tpdf 192 constant",
        "1 · wav pcm_24 keep keep tpdf · 1",
        "1 · wav pcm_24 keep keep tpdf · 2",
    ]
    parsed = parse_spec(TWO_FORMATS, "two")
    assert [f"1 · {each.key}" for each in parsed.formats] == [found[0], found[1].removesuffix(" · 1")]


def test_the_same_contents_measured_many_times_at_once_are_kept_once_and_whole(store, tmp_path):
    digest = _kept(tmp_path, store, signals.noise(1))
    measured = measure(store.audio_path(digest))
    wrong = []

    def keep(number):
        try:
            for _ in range(20):
                with store.keeping_hops(digest) as folder:
                    (folder / "envelope.npy").write_text(str(number))
                store.save_curves(digest, measured.curves)
        except Exception as error:
            wrong.append(error)

    threads = [threading.Thread(target=keep, args=(number,)) for number in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert wrong == []
    assert (store.hops_folder(digest) / "envelope.npy").read_text() in "0123"
    assert np.array_equal(store.load_curves(digest).energies, measured.curves.energies)
    assert sorted(path.name for path in store.hops_folder(digest).parent.iterdir()) == [
        "audio",
        "autocorrelations.npy",
        "correlations.npy",
        "energies.npy",
        "hops",
        "peaks.npy",
        "spectrum.npy",
        "squares.npy",
    ]


def test_what_a_killed_worker_left_is_swept_and_what_a_living_one_writes_is_not(store, tmp_path):
    digest = _kept(tmp_path, store, signals.noise(1))
    home = store.audio_path(digest).parent
    (home / ".making-old").mkdir()
    (home / ".making-old" / "curve.npy").write_bytes(b"x" * 5000)
    with store.keeping_hops(digest) as part:
        assert store.sweep() >= 5000
        assert list(home.glob(".making-*")) == [part.parent]
        (part / "hop").write_bytes(b"whole")
    assert list(home.glob(".making-*")) == []


@pytest.mark.parametrize("signal", [signals.programme(4), signals.silence(1), signals.noise(0.1, channels=10)])
def test_a_reading_comes_back_as_it_was_measured(store, tmp_path, signal):
    digest = _kept(tmp_path, store, signal)
    measured = measure(store.audio_path(digest))
    assert not is_measured(digest)
    save_reading(digest, measured, store)
    assert is_measured(digest)
    found = load_reading(digest, store)
    assert found == measured
    assert np.array_equal(found.curves.energies, measured.curves.energies)
    assert np.array_equal(found.curves.peaks, measured.curves.peaks)


def test_shapes_of_many_are_asked_for_at_once_and_of_what_is_not_measured_there_is_none(store, tmp_path):
    known = {}
    for number in range(3):
        digest = _kept(tmp_path, store, signals.noise(number + 1, seed=number))
        save_reading(digest, measure(store.audio_path(digest)), store)
        known[digest] = 48_000 * (number + 1)
    found = known_shapes([*known, "0" * 64])
    assert {digest: shape.frames for digest, shape in found.items()} == known
    assert known_shapes(known) == found
    assert known_shape("0" * 64) is None
    assert (
        known_shape(next(iter(known)))
        == found[next(iter(known))]
        == load_figures(next(iter(known)), store).source.shape
    )


def test_levels_of_silence_survive_the_database(store, tmp_path):
    digest = _kept(tmp_path, store, signals.silence(1))
    save_reading(digest, measure(store.audio_path(digest)), store)
    assert load_reading(digest, store).integrated_lufs == -math.inf


def test_the_same_contents_are_kept_once(store, tmp_path):
    digest = _kept(tmp_path, store, signals.noise(1, seed=1))
    assert _kept(tmp_path, store, signals.noise(1, seed=1)) == digest
    assert len(list(store.folder.rglob("audio"))) == 1
    assert store.audio_path(digest).stat().st_mode & 0o222 == 0


def test_spec_versions_are_kept_and_never_doubled(store):
    first = keep_spec("house", '[spec]\nname = "House"\n[[formats]]\ncontainer = "wav"')
    again = keep_spec("house", '[spec]\nname = "House"\n[[formats]]\ncontainer = "wav"')
    other = keep_spec("house", '[spec]\nname = "House, later"\n[[formats]]\ncontainer = "wav"')
    assert first.id == again.id != other.id
    assert spec_of(first).spec.name == "House"
    assert SpecVersion.select().count() == 2


def test_destinations_keep_their_places_and_come_once(store):
    job = jobs.make_job("Work", None, ["podcast", "loud-streaming"])
    jobs.add_destination(job.id, "podcast")
    assert [each.spec.slug for each in jobs.destinations_of(job.id)] == ["podcast", "loud-streaming"]
    with pytest.raises(SpecError):
        jobs.add_destination(job.id, "nowhere")


def _queued(store):
    job = jobs.make_job("Work", None, ["podcast"])
    source = sources.add_source(job.id, "mix.wav", "0" * 64, 100)
    destination = jobs.destinations_of(job.id)[0]
    return (
        job,
        source,
        destination,
        deliverables.queue_deliverable(deliverables.Asked(source, destination, "format 0")),
    )


def test_a_deliverable_is_queued_once_while_it_waits(store):
    _, source, destination, queued = _queued(store)
    assert queued.state == "queued"
    assert deliverables.queue_deliverable(deliverables.Asked(source, destination, "format 0")) is None


def test_a_finished_deliverable_can_be_queued_again_and_starts_clean(store):
    _, source, destination, queued = _queued(store)
    found = deliverables.find_deliverable(queued.id)
    assert deliverables.save_deliverable(found, "failed", error_code="no_space", error_message="Full.")
    again = deliverables.queue_deliverable(deliverables.Asked(source, destination, "format 0"))
    assert (again.id, again.state, again.error_code) == (queued.id, "queued", None)


def test_a_stopped_deliverable_is_not_brought_back_by_its_worker(store):
    job, _, _, queued = _queued(store)
    found = deliverables.find_deliverable(queued.id)
    assert deliverables.stop_deliverables(job.id) == 1
    assert not deliverables.save_deliverable(found, "proved")
    assert Deliverable.get_by_id(queued.id).state == "stopped"


def test_states_are_held_to_their_list(store):
    _, source, _, _ = _queued(store)
    with pytest.raises(peewee.IntegrityError):
        Source.update(state="lost").where(Source.id == source.id).execute()


def test_what_lies_in_the_trash_takes_its_deliverables_with_it_when_that_is_emptied(store):
    job, source, _, queued = _queued(store)
    trash_source(source)
    assert sources.sources_of(job.id) == deliverables.deliverables_of(job.id) == []
    assert Deliverable.get_by_id(queued.id).state == "stopped"
    assert (trash().sources, trash().jobs) == (1, 0)
    assert empty_trash(older_than=timedelta(days=1)) == ([], set())
    assert empty_trash() == ([queued.id], {source.digest})
    assert Deliverable.select().count() == 0
    assert trash().is_empty


def test_a_change_is_told_to_whoever_listens(store, database_url):
    heard = []
    with psycopg.connect(database_url, autocommit=True) as connection:
        connection.execute(f"LISTEN {CHANNEL}")
        listener = threading.Thread(target=lambda: heard.extend(connection.notifies(timeout=5, stop_after=1)))
        listener.start()
        job, source, _, _ = _queued(store)
        listener.join()
    assert f'"job": {job.id}' in heard[0].payload
    assert f'"source": {source.id}' in heard[0].payload
