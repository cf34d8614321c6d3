"""Tasks: each way out is saved, each try can be repeated, nothing half-written stays."""

import asyncio
from dataclasses import replace

import pytest
import soundfile

from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import NotPreparedError
from nicelevel.core.plan import plans
from nicelevel.core.prepare import shared
from nicelevel.core.specs import parse_spec
from nicelevel.core.steps import resolve
from nicelevel.core.steps.trim import Sounding, Trim
from nicelevel.desk.contents import Contents
from nicelevel.desk.current import absent_files, current_deliverables, is_as_planned
from nicelevel.desk.planning import digest_of_plan, plans_of
from nicelevel.desk.prepared import nearly_prepared, prepared_signals
from nicelevel.desk.proposals import proposals
from nicelevel.store.deliverables import deliverables_of, file_of, home_of, save_deliverable, stop_deliverables
from nicelevel.store.jobs import add_destination, destinations_of
from nicelevel.store.models import Deliverable, Reading, Source
from nicelevel.store.readings import load_figures
from nicelevel.store.sets import link_set, members_of, unlink_set
from nicelevel.store.sources import find_source, sources_of
from nicelevel.store.specs import keep_version, spec_of
from nicelevel.work import tasks, trying
from nicelevel.work.app import open_queue
from nicelevel.work.enqueue import (
    enqueue_measuring,
    enqueue_outdated,
    enqueue_preparations,
    enqueue_renders,
    enqueue_source,
    enqueue_sum_check,
)
from nicelevel.work.worker import rescue_stalled
from tests import episodes, reference, signals
from tests.speech_and_music import talk

from .conftest import WAV_FEED

LIMITED = (
    '[spec]\nname = "Loud"\n[loudness]\ntarget = -13.0\ntolerance = 0.5\n[limits]\nmax_true_peak_dbtp = -1.0\n'
    '[method]\nallow = "limiter"\n[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\nsample_rate = 48000\n'
)


def _state(source):
    return Source.get_by_id(source.id).state


def test_a_source_is_measured(take_in, work_off):
    source = take_in("mix.wav", signals.programme(3))
    assert _state(source) == "queued"
    work_off()
    found = Source.get_by_id(source.id)
    assert (found.state, found.progress_ratio, found.title) == ("measured", 1.0, "mix")


@pytest.mark.parametrize(
    ("name", "data", "code"),
    [
        ("notes.wav", b"Dear engineer, here is the mix.", "not_audio"),
        ("empty.wav", b"", "empty"),
        ("song.mp3", b"ID3\x04" + b"\0" * 100, "damaged"),
    ],
)
def test_a_bad_file_gets_its_sentence_and_the_rest_goes_on(take_in, work_off, name, data, code):
    bad = take_in(name, data=data)
    good = take_in("mix.wav", signals.noise(1))
    work_off()
    found = Source.get_by_id(bad.id)
    assert (found.state, found.error_code) == ("failed", code)
    assert found.error_message.endswith(".")
    assert _state(good) == "measured"


def test_measuring_twice_changes_nothing(take_in, work_off):
    source = take_in("mix.wav", signals.noise(1))
    enqueue_measuring(source)
    work_off()
    assert _state(source) == "measured"


def test_readings_of_an_earlier_meter_are_made_anew(take_in, work_off):
    source = take_in("mix.wav", signals.noise(1))
    work_off()
    assert enqueue_outdated() == 0
    Reading.update(meter_version=0).execute()
    assert enqueue_outdated() == 1
    assert _state(source) == "queued"
    work_off()
    assert _state(source) == "measured"
    assert enqueue_outdated() == 0


def test_a_deliverable_is_rendered_and_proved(take_in, work_off, store, job, config):
    source = take_in("mix.wav", signals.programme(5), subtype="PCM_24")
    work_off()
    for destination in destinations_of(job.id):
        assert len(enqueue_renders(source, destination, store)) == 1
    work_off()
    made = deliverables_of(job.id)
    assert [each.state for each in made] == ["proved", "proved"]
    feed = made[0]
    path = file_of(feed, config.deliverables_folder)
    assert path.name == feed.file_name == "mix_feed.wav"
    assert sha256_of(path) == feed.sha256
    written, rate = soundfile.read(path)
    assert reference.read(written, rate).integrated_lufs == pytest.approx(-16.0, abs=0.05)
    assert feed.measured["integrated_lufs"] == pytest.approx(feed.plan["predicted"]["integrated_lufs"], abs=0.05)
    assert all(finding["meets"] for finding in feed.findings)


def test_what_was_written_by_another_recipe_at_the_same_gain_is_not_handed_over(take_in, work_off, store, job):
    """The plan is kept when it is queued, and told apart by its digest, not by its gain."""
    source = take_in("mix.wav", signals.programme(5), subtype="PCM_24")
    work_off()
    place = destinations_of(job.id)[0]
    (queued,) = enqueue_renders(source, place, store)
    asked = Deliverable.get_by_id(queued.id)
    assert (asked.state, asked.plan["action"]) == ("queued", "gain")
    work_off()
    made = Deliverable.get_by_id(queued.id)
    (plan,) = plans_of(source, spec_of(place.spec), store)
    other = replace(plan, chain=resolve(plan.chain.before, (Trim(),), lambda *_: Sounding(first=0, last=100)))
    assert made.plan_digest == asked.plan_digest == digest_of_plan(source, plan) != digest_of_plan(source, other)
    assert current_deliverables(job.id, store) == [made]
    Deliverable.update(plan_digest=digest_of_plan(source, other)).where(Deliverable.id == made.id).execute()
    assert current_deliverables(job.id, store) == []
    assert "It was rendered by another plan than today's; render it again." in [
        each.reason for each in absent_files(job.id, store)
    ]


def test_what_failed_in_a_format_that_is_not_asked_for_any_more_says_nothing(take_in, work_off, store, job):
    source = take_in("mix.wav", signals.noise(2))
    work_off()
    place = destinations_of(job.id)[0]
    (made,) = enqueue_renders(source, place, store)
    found, plans_now = Deliverable.get_by_id(made.id), plans_of(source, spec_of(place.spec), store)
    found.state = "failed"
    assert is_as_planned(found, plans_now)
    found.output = "1 · reel"
    assert not is_as_planned(found, plans_now)
    found.state = "queued"
    assert is_as_planned(found, plans_now)


def test_a_fold_down_is_prepared_planned_and_rendered(take_in, work_off, store, job, config):
    """Stereo to a handset's 16 kHz in one channel: the prepared signal is measured in the background."""
    place = add_destination(job.id, "speech-handset")
    source = take_in("mix.wav", signals.programme(3, seed=4))
    work_off()  # measures, and asks for what is to be prepared
    work_off()
    find, spec = prepared_signals(Contents(source.digest), store), spec_of(place.spec)
    found = plans(load_figures(source.digest, store).source, find, spec)[0]
    assert (found.chain.shape.layout.name, found.chain.shape.rate_hz) == ("mono", 16_000)
    (deliverable,) = enqueue_renders(source, place, store)
    work_off()
    proved = Deliverable.get_by_id(deliverable.id)
    assert proved.state == "proved"
    assert (proved.measured["sample_rate"], proved.measured["layout"]) == (16_000, "mono")
    assert proved.measured["sample_peak_dbfs"] == pytest.approx(-3.0, abs=0.01)


def test_a_new_destination_has_its_fold_downs_made(take_in, work_off, store, job):
    source = take_in("mix.wav", signals.programme(2, seed=5))
    work_off()
    place = add_destination(job.id, "speech-handset")
    spec, described = spec_of(place.spec), load_figures(source.digest, store).source
    with pytest.raises(NotPreparedError, match="mono and resampled to 16000 Hz"):
        plans(described, prepared_signals(Contents(source.digest), store), spec)
    enqueue_preparations(job.id, store)
    enqueue_preparations(job.id, store)
    work_off()
    assert plans(described, prepared_signals(Contents(source.digest), store), spec)[0].action == "gain"


def _needs_limiting():
    """A steady tone with peaks that are over in a few milliseconds."""
    signal = signals.both(signals.sine(500, -20.0, 6))
    signal[24_000::48_000] = 0.9
    return signals.band_limited(signal, 48_000)


def test_a_limited_deliverable_is_proved_as_planned(take_in, work_off, store, job):
    place = add_destination(job.id, "loud-streaming")
    source = take_in("mix.wav", _needs_limiting())
    work_off()
    (deliverable,) = enqueue_renders(source, place, store)
    work_off()
    proved = Deliverable.get_by_id(deliverable.id)
    assert (proved.state, proved.plan["action"]) == ("proved", "limit")
    assert proved.plan["limiting_db"] > 0.5
    assert proved.measured["integrated_lufs"] == pytest.approx(proved.plan["predicted"]["integrated_lufs"], abs=0.05)


THREE_OF_ONE_RATE = """
spec.name = "Masters"
loudness = { target = -20.0, tolerance = 0.5 }
formats = [
    { container = "wav", encoding = "pcm_16", sample_rate = 44100 },
    { container = "wav", encoding = "pcm_24", sample_rate = 44100 },
    { container = "flac", encoding = "pcm_24", sample_rate = 44100 },
]
output = { pick = "all", name = "{title}_{codec}_{bits}" }
"""


def test_deliverables_of_one_rate_are_resampled_once_and_are_what_each_is_alone(
    take_in, work_off, store, job, monkeypatch
):
    begun, whole = [], shared.coded_blocks

    def counted(*arguments):
        begun.append(arguments)
        return whole(*arguments)

    monkeypatch.setattr(shared, "coded_blocks", counted)
    keep_version("masters", THREE_OF_ONE_RATE)
    place = add_destination(job.id, "masters")
    source = take_in("mix.wav", signals.programme(4, seed=4), subtype="PCM_24")
    work_off()
    work_off()

    def rendered():
        assert len(enqueue_renders(source, place, store)) == 3
        work_off()
        made = [each for each in deliverables_of(job.id) if each.destination_id == place.id]
        assert {each.state for each in made} == {"proved"}
        return [each.sha256 for each in made]

    together = rendered()
    assert len(begun) == 1
    monkeypatch.setattr(tasks, "_shared", shared.SharedSignals(most_bytes=0))
    assert rendered() == together
    assert len(begun) == 1


@pytest.mark.parametrize("slug", ["feed", "podcast"])
def test_members_of_a_set_are_written_with_one_gain(take_in, work_off, store, job, slug):
    """Also as MP3, whose level an encoder moves: alone the mix would make up for that."""
    place = add_destination(job.id, slug) if slug == "podcast" else destinations_of(job.id)[0]
    stems = [0.3 * signals.drums(4, seed=7), 0.2 * signals.both(signals.sine(330.0, -20.0, 4))]
    mix = take_in("song.wav", sum(stems))
    members = [take_in(f"song_{name}.wav", stem) for name, stem in zip("ab", stems, strict=True)]
    work_off()
    assert [each.id for each in members_of(mix.id)] == [each.id for each in members]
    assert find_source(mix.id).sum_check["adds_up"]
    unlink_set(find_source(members[0].id))
    assert proposals(sources_of(job.id), store) == []
    link_set(mix, members, "sum")
    assert [each.id for each in sources_of(job.id)] == [mix.id, *(each.id for each in members)]
    everyone = sources_of(job.id)
    for source in everyone:
        enqueue_renders(source, place, store)
    work_off()
    made = {each.source_id: each for each in deliverables_of(job.id)}
    assert {each.state for each in made.values()} == {"proved"}
    assert len({round(each.plan["gain_db"], 9) for each in made.values()}) == 1
    enqueue_sum_check(mix)
    work_off()
    assert find_source(mix.id).sum_check["adds_up"]
    unlink_set(find_source(members[0].id))
    assert find_source(mix.id).sum_check is None
    assert all(each.leader_id is None for each in sources_of(job.id))


def test_tracks_of_an_album_share_a_gain_and_have_their_own_limiters(take_in, work_off, store, job):
    """Also where one of them has another rate: each has its own prepared signal."""
    keep_version("loud", LIMITED)
    place = add_destination(job.id, "loud")
    loud = take_in("one.wav", 0.5 * signals.drums(5.0))
    other = take_in("two.wav", 0.45 * signals.drums(7.0, rate=44_100, seed=5), rate=44_100)
    quiet = take_in("three.wav", 0.05 * signals.programme(4, seed=4))
    work_off()
    link_set(loud, [other, quiet], "album")
    enqueue_preparations(job.id, store)
    work_off()
    for source in sources_of(job.id):
        enqueue_renders(source, place, store)
    work_off()
    made = {each.source_id: each for each in deliverables_of(job.id) if each.destination_id == place.id}
    assert {each.state for each in made.values()} == {"proved"}
    assert len({each.plan["gain_db"] for each in made.values()}) == 1
    assert made[loud.id].plan["limiting_db"] > 1.0
    assert made[other.id].plan["limiting_db"] > 1.0
    assert made[quiet.id].plan["limiting_db"] == 0.0
    assert made[quiet.id].plan["action"] == "gain"
    assert all(each.measured["true_peak_dbtp"] <= -1.0 for each in made.values())


def test_what_cannot_meet_is_not_queued(take_in, work_off, store, job):
    signal = 0.01 * signals.noise(3)
    signal[1000] = 0.9
    source = take_in("mix.wav", signal)
    work_off()
    assert enqueue_renders(source, destinations_of(job.id)[0], store) == []


def test_a_render_that_was_interrupted_is_swept_out_and_done_again(take_in, work_off, store, job, config):
    source = take_in("mix.wav", signals.programme(3))
    work_off()
    (queued,) = enqueue_renders(source, destinations_of(job.id)[0], store)
    home = home_of(queued.id, config.deliverables_folder)
    home.mkdir(parents=True)
    (home / ".mix_feed.wav.part").write_bytes(b"half")
    (home / "1").mkdir()
    (home / "1" / ".mix_feed.wav.0123456789ab.part").write_bytes(b"half")
    Deliverable.update(state="rendering", progress_ratio=0.4, token=1).where(Deliverable.id == queued.id).execute()
    work_off()
    proved = Deliverable.get_by_id(queued.id)
    assert proved.state == "proved"
    assert [path.name for path in home.rglob("*") if path.is_file()] == ["mix_feed.wav"]
    assert [path.name for path in home.iterdir()] == [str(proved.token)]


def test_a_stop_in_the_middle_leaves_no_file(take_in, work_off, store, job, config, monkeypatch):
    source = take_in("mix.wav", signals.noise(20))
    work_off()
    (queued,) = enqueue_renders(source, destinations_of(job.id)[0], store)
    monkeypatch.setattr(trying, "TOLD_EVERY_S", 0.0)

    def stop_first(deliverable, state, **columns):
        if columns.get("progress_ratio", 0) > 0.3:
            stop_deliverables(job.id)
        return save_deliverable(deliverable, state, **columns)

    monkeypatch.setattr(tasks, "save_deliverable", stop_first)
    work_off()
    assert Deliverable.get_by_id(queued.id).state == "stopped"
    assert list(home_of(queued.id, config.deliverables_folder).iterdir()) == []


def test_a_full_disk_is_a_failure_with_a_sentence(take_in, work_off, store, job, config, monkeypatch):
    source = take_in("mix.wav", signals.noise(2))
    work_off()
    (queued,) = enqueue_renders(source, destinations_of(job.id)[0], store)

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("nicelevel.core.files.write._WaveSink.put", full)
    work_off()
    found = Deliverable.get_by_id(queued.id)
    assert (found.state, found.error_code) == ("failed", "no_space")
    assert list(home_of(queued.id, config.deliverables_folder).iterdir()) == []


def test_jobs_of_a_dead_worker_go_back_on_the_queue(take_in, work_off, store, config, database_url):
    source = take_in("mix.wav", signals.noise(1))

    async def rescue():
        queue = open_queue(database_url)
        async with queue.open_async():
            worker_id = await queue.job_manager.register_worker()
            assert await queue.job_manager.fetch_job(None, worker_id)
            await queue.connector.execute_query_async(
                "UPDATE procrastinate_workers SET last_heartbeat = now() - interval '1 minute'"
            )
            return await rescue_stalled(queue)

    assert asyncio.run(rescue()) == 1
    work_off()
    assert _state(source) == "measured"


def test_two_workers_that_rescue_one_job_put_it_back_once(take_in, work_off, database_url):
    """Both see that its worker is dead, on connections of their own; it is tried once more, not twice."""
    source = take_in("mix.wav", signals.noise(1))

    async def rescue():
        one, other = open_queue(database_url), open_queue(database_url)
        async with one.open_async(), other.open_async():
            dead = await one.job_manager.register_worker()
            job = await one.job_manager.fetch_job(None, dead)
            await one.connector.execute_query_async(
                "UPDATE procrastinate_workers SET last_heartbeat = now() - interval '1 minute'"
            )
            seen = [await each.job_manager.get_stalled_jobs(seconds_since_heartbeat=8.0) for each in (one, other)]
            assert [[each.id for each in jobs] for jobs in seen] == [[job.id], [job.id]]
            await asyncio.gather(rescue_stalled(one), rescue_stalled(other))
            return await one.connector.execute_query_one_async(
                "SELECT status, attempts FROM procrastinate_jobs WHERE id = %(id)s", id=job.id
            )

    assert asyncio.run(rescue()) == {"status": "todo", "attempts": 1}
    work_off()
    assert _state(source) == "measured"


def test_a_row_and_its_queue_entry_come_together_or_not_at_all(job, store, monkeypatch):
    from nicelevel.work import enqueue

    def broken(source):
        raise RuntimeError("no queue")

    monkeypatch.setattr(enqueue, "enqueue_measuring", broken)
    with pytest.raises(RuntimeError):
        enqueue_source(job.id, "mix.wav", "0" * 64, 1)
    assert Source.select().count() == 0


def test_what_is_too_long_is_cut_in_the_background_planned_and_rendered(take_in, work_off, store, job):
    toml = WAV_FEED.replace("[limits]", "[limits]\nmax_duration_s = 4.0")
    keep_version("short", toml.replace("[method]", "[method]\nclosing_fade_s = 0.5"))
    destination = add_destination(job.id, "short")
    source = take_in("mix.wav", signals.noise(6, -25.0))
    work_off()  # measures, and asks for what is to be prepared
    work_off()
    (queued,) = enqueue_renders(source, destination, store)
    work_off()
    made = Deliverable.get_by_id(queued.id)
    assert made.state == "proved"
    assert made.measured["duration_s"] == 4.0


def test_a_format_that_the_spec_no_longer_asks_for_is_said(take_in, work_off, store, job):
    source = take_in("mix.wav", signals.noise(2))
    work_off()
    (queued,) = enqueue_renders(source, destinations_of(job.id)[0], store)
    Deliverable.update(output="1 · reel").where(Deliverable.id == queued.id).execute()
    work_off()
    found = Deliverable.get_by_id(queued.id)
    assert (found.state, found.error_code) == ("failed", "unsupported")
    assert "does not ask for this format any more" in found.error_message


def test_a_draft_for_another_rate_is_judged_at_that_rate(take_in, work_off, store):
    """Before it is resampled the figures of the source are good enough, but not its rate."""
    source = take_in("mix.wav", signals.programme(4))
    work_off()
    spec = parse_spec(
        'spec.name = "At 44.1"\nloudness = { target = -20.0, tolerance = 0.5 }\n'
        'formats = [{ container = "wav", encoding = "pcm_16", sample_rate = 44100 }]',
        "draft",
    )
    described = load_figures(source.digest, store).source
    (draft,) = plans(described, nearly_prepared(Contents(source.digest), store), spec)
    assert draft.verdict.meets
    assert draft.predicted.source.sample_rate_hz == 44_100
    with pytest.raises(NotPreparedError, match="resampled to 44100 Hz"):
        plans(described, prepared_signals(Contents(source.digest), store), spec)


BY_SPEECH = WAV_FEED.replace("[loudness]", '[loudness]\nmeasure = "dialogue"')


def test_what_is_levelled_by_speech_is_listened_to_in_the_background(take_in, work_off, store, job):
    """Two destinations, one at another rate: heard once for each signal, and nothing is made of the source itself."""
    keep_version("spoken", BY_SPEECH)
    keep_version("spoken-44", BY_SPEECH.replace('"pcm_16"', '"pcm_16"\nsample_rate = 44100'))
    places = [add_destination(job.id, slug) for slug in ("spoken", "spoken-44")]
    voice, _ = talk(37, 24)
    source = take_in("talk.wav", 0.2 * voice, rate=episodes.RATE_HZ)
    work_off()
    work_off()
    for place in places:
        spec = spec_of(place.spec)
        plan = plans_of(find_source(source.id), spec, store)[0]
        assert plan.verdict.meets
        assert plan.predicted.dialogue_lufs == pytest.approx(spec.loudness.target, abs=0.01)
        (queued,) = enqueue_renders(find_source(source.id), place, store)
        work_off()
        made = Deliverable.get_by_id(queued.id)
        assert made.state == "proved"
        assert made.measured["dialogue_lufs"] == pytest.approx(spec.loudness.target, abs=0.1)
        assert made.findings[0]["rule"] == "dialogue"
        assert is_as_planned(made, plans_of(find_source(source.id), spec, store))
    assert len(list(store.digests())) == 2  # the file, and what it is at 44.1 kHz
