"""Lines in the application: watched, taken once, published or held, told, done again, by whichever worker."""

import os
import time
from datetime import UTC, datetime, timedelta

import pytest
import soundfile

from nicelevel.core.arrivals import LineSettings
from nicelevel.core.clock import Clock
from nicelevel.core.errors import NoSpaceError
from nicelevel.core.measure import measure
from nicelevel.desk.lines import kept_of, put_back
from nicelevel.stand_ins.receiving_desk.app import create_desk
from nicelevel.store.arrivals import arrivals_between, find_arrival, tellings_of
from nicelevel.store.lines import add_line, change_line, find_line, settings_of
from nicelevel.store.models import Arrival, Telling
from nicelevel.work.arriving import PASSING, do_again
from nicelevel.work.keeping import sweep_arrivals
from nicelevel.work.reconcile import requeue_forgotten
from nicelevel.work.watching import Watcher
from tests import signals

from .settling import SETTLE_S, settled
from .test_sending import _serving


@pytest.fixture
def folders(tmp_path):
    made = {name: tmp_path / name for name in ("in", "out", "away")}
    made["in"].mkdir()
    return made


@pytest.fixture
def draw(store, folders):
    def drawn(**more):
        told = {
            "name": "Tide bulletin",
            "folder": str(folders["in"]),
            "publish": str(folders["out"]),
            "spec": "european-broadcast",
            "under": "bulletin",
            "settle_s": SETTLE_S,
        }
        return add_line(LineSettings(**(told | more)))

    return drawn


@pytest.fixture
def look(config, work_off):
    """Look until what is there is whole, and work it off."""
    watcher = Watcher(config)

    def looked(by=watcher):
        found = settled(by)
        work_off()
        return found

    return looked


@pytest.fixture
def hook(tmp_path):
    server, address = _serving(create_desk(tmp_path / "desk"))
    yield address.replace("/packages", "/alarms")
    server.shutdown()


def _all():
    now = datetime.now(UTC)
    return arrivals_between(now - timedelta(days=2), now + timedelta(days=1))


def test_what_comes_is_published_and_kept_to_be_heard(draw, look, folders, config):
    draw()
    path = signals.write(folders["in"] / "tide.wav", signals.noise(3, -35))
    assert look() == 1
    (arrival,) = _all()
    assert (arrival.state, arrival.published, arrival.under) == ("published", ["bulletin.wav"], "bulletin")
    out = folders["out"] / "bulletin.wav"
    assert measure(out).integrated_lufs == pytest.approx(-23.0, abs=0.05)
    assert arrival.figures["came"]["lufs"] == pytest.approx(measure(path).integrated_lufs, abs=0.01)
    assert arrival.figures["made"]["lufs"] == pytest.approx(-23.0, abs=0.05)
    kept = kept_of(arrival, config.arrivals_folder)
    assert kept.path(arrival.files["came"]).read_bytes() == path.read_bytes()
    assert kept.path(arrival.files["out"]).read_bytes() == out.read_bytes()
    assert [words.split(",")[0] for _, _, words in arrival.told] == ["growing", "whole", "proved"]
    assert look() == 0  # done once


def test_two_workers_take_each_arrival_once(draw, look, folders, config, work_off):
    """Forty at once."""
    draw(under="{title}")
    for number in range(40):
        signals.write(folders["in"] / f"{number}.wav", signals.noise(0.6, -30, seed=number))
    watchers = [Watcher(config), Watcher(config)]
    assert settled(*watchers) == 40
    work_off()
    assert [each.state for each in _all()] == ["published"] * 40
    assert len(list(folders["out"].glob("*.wav"))) == 40


def test_what_is_too_short_is_held_the_last_good_one_stays_and_it_is_told(draw, look, folders, hook):
    line = draw(shortest_s=2.0, hook=hook)
    signals.write(folders["in"] / "one.wav", signals.noise(3, -35))
    look()
    on_air = (folders["out"] / "bulletin.wav").read_bytes()
    signals.write(folders["in"] / "two.wav", signals.noise(1, -35))
    look()
    held = _all()[-1]
    assert (held.state, held.error_code) == ("held", "length")
    assert held.error_message == "Only 0:01.0 of sound is left; the shortest allowed is 0:02.0."
    assert held.told[-1][2].startswith("one.wav of ")
    assert held.told[-1][2].endswith("stays on air, nothing was written over it")
    assert (folders["out"] / "bulletin.wav").read_bytes() == on_air
    (telling,) = tellings_of(held.id)
    assert (telling.state, telling.said) == ("answered", "answered 200")
    assert "two.wav is held back" in telling.told["sentence"]

    assert do_again(held, True, Clock())
    look()
    forced = find_arrival(held.id)
    assert forced.state == "published"
    assert soundfile.info(folders["out"] / "bulletin.wav").duration == 1.0
    put_back(find_line(line.id), "bulletin", Clock())
    assert (folders["out"] / "bulletin.wav").read_bytes() == on_air


def test_what_is_on_air_stays_so_where_it_would_be_held_now(draw, look, folders, work_off):
    line = draw()
    signals.write(folders["in"] / "one.wav", signals.noise(2, -35))
    look()
    (arrival,) = _all()
    change_line(line, settings_of(find_line(line.id)).model_copy(update={"shortest_s": 5.0}))
    on_air = (folders["out"] / "bulletin.wav").read_bytes()
    assert do_again(arrival, False, Clock())
    work_off()
    (again,) = _all()
    assert (again.state, again.finished_at, again.error_code) == ("published", arrival.finished_at, None)
    assert again.told[-1][2].endswith("What was published of it stays.")
    assert (folders["out"] / "bulletin.wav").read_bytes() == on_air


def test_what_is_no_audio_is_held_and_done_again_from_its_copy(draw, look, folders):
    draw()
    path = folders["in"] / "text.wav"
    path.write_text("a text that somebody named so, long enough to be looked at")
    look()
    (held,) = _all()
    assert (held.state, held.error_code) == ("held", "not_audio")
    assert held.told[-1][2] == "nothing was published before it"
    path.unlink()
    assert do_again(held, True, Clock())
    look()
    assert find_arrival(held.id).state == "held"  # nothing can be made of it
    assert not folders["out"].exists() or not list(folders["out"].glob("*.wav"))


def test_a_hook_that_is_away_is_told_later_and_given_up_in_the_end(draw, look, folders, monkeypatch, work_off):
    monkeypatch.setattr("nicelevel.work.telling.AGAIN_S", (0.0, 0.0))
    draw(hook="http://127.0.0.1:9/alarms")
    (folders["in"] / "x.wav").write_bytes(b"nothing that could be heard, at least not here")
    look()
    for _ in range(3):
        work_off()
    (telling,) = list(Telling.select())
    assert (telling.state, telling.tries) == ("given_up", 3)
    assert "127.0.0.1" in telling.said


def test_the_same_contents_are_not_published_again_others_are(draw, look, folders):
    draw(under="{title}")
    first, second = signals.noise(2, -30, seed=1), signals.noise(2, -30, seed=2)
    for number, sound in enumerate((first, first, second, first)):
        signals.write(folders["in"] / "news.wav", sound)
        time.sleep(0.01)
        assert look() == 1, number
    assert [each.state for each in _all()] == ["published", "same", "published", "published"]


def test_what_is_expected_and_does_not_come_is_told_and_may_come_late(draw, look, folders, hook, config):
    now = datetime.now()
    minute = (now - timedelta(minutes=2)).minute
    line = draw(expected=f"{minute} * * * *", late_after_s=30, hook=hook)
    line.__class__.update(made_at=datetime.now(UTC) - timedelta(minutes=10)).where(
        line.__class__.id == line.id
    ).execute()
    look()
    (missing,) = _all()
    assert missing.state == "missing"
    assert missing.told[0][2].startswith("nothing came for ")
    assert [each.told["kind"] for each in Telling.select()] == ["missing"]
    signals.write(folders["in"] / "late.wav", signals.noise(2, -30))
    look()
    (late,) = _all()
    assert (late.state, late.is_late, late.expected_at) == ("published", True, missing.expected_at)
    assert sorted(each.told["kind"] for each in Telling.select()) == ["missing", "published"]


def test_a_stand_in_is_published_where_nothing_comes(draw, look, folders, tmp_path):
    minute = (datetime.now() - timedelta(minutes=2)).minute
    stand_in = signals.write(tmp_path / "We are back soon.wav", signals.noise(2, -28))
    told = {"when_nothing": "stand_in", "stand_in": str(stand_in)}
    line = draw(expected=f"{minute} * * * *", late_after_s=30, **told)
    Line = type(line)  # noqa: N806
    Line.update(made_at=datetime.now(UTC) - timedelta(minutes=10)).where(Line.id == line.id).execute()
    look()
    (arrival,) = _all()
    assert (arrival.state, arrival.is_late) == ("published", True)
    assert (folders["out"] / "bulletin.wav").is_file()
    assert stand_in.is_file()


def test_arrivals_stay_unless_the_line_says_otherwise(draw, look, folders):
    line = draw(under="{title}")
    for name, afterwards in (("a", "leave"), ("b", "move"), ("c", "delete")):
        told = settings_of(find_line(line.id)).model_copy(
            update={"afterwards": afterwards, "moved_to": str(folders["away"])}
        )
        change_line(line, told)
        signals.write(folders["in"] / f"{name}.wav", signals.noise(1, -30, seed=ord(name)))
        look()
    assert [path.name for path in folders["in"].iterdir()] == ["a.wav"]
    assert [path.name.split()[-1] for path in folders["away"].iterdir()] == ["b.wav"]


def test_a_folder_that_is_away_is_said_at_its_line_until_it_is_back(draw, look, folders):
    line = draw()
    folders["in"].rmdir()
    look()
    assert "cannot be looked into" in find_line(line.id).trouble
    folders["in"].mkdir()
    look()
    assert find_line(line.id).trouble is None


def test_subfolders_count_where_the_line_says_so(draw, look, folders):
    draw(subfolders=True, under="{title}")
    for name in ("a.wav", "desk one/b.wav", ".hidden/c.wav"):
        (folders["in"] / name).parent.mkdir(exist_ok=True)
        signals.write(folders["in"] / name, signals.noise(1, -30))
    assert look() == 2
    assert sorted(each.name for each in _all()) == ["a.wav", "desk one/b.wav"]
    assert sorted(path.name for path in folders["out"].glob("*.wav")) == ["a.wav", "b.wav"]


def test_a_line_that_is_only_watched_publishes_nothing(draw, look, folders):
    draw(spec="", publish="")
    signals.write(folders["in"] / "mix.wav", signals.noise(2, -30))
    look()
    (arrival,) = _all()
    assert arrival.state == "noted"
    assert arrival.figures["came"]["lufs"] is not None
    assert not folders["out"].exists()


def test_a_try_that_was_lost_after_publishing_is_done_again_to_the_same_bytes(draw, look, folders, config, work_off):
    draw()
    signals.write(folders["in"] / "one.wav", signals.noise(2, -30, seed=1))
    look()
    signals.write(folders["in"] / "two.wav", signals.noise(2, -30, seed=2))
    look()
    before = (folders["out"] / "bulletin.wav").read_bytes()
    latest = _all()[-1]
    Arrival.update(state="working", published=[]).where(Arrival.id == latest.id).execute()
    assert requeue_forgotten() == 1
    work_off()
    assert find_arrival(latest.id).state == "published"
    assert (folders["out"] / "bulletin.wav").read_bytes() == before
    line = find_line(latest.line_id)
    put_back(line, "bulletin", Clock())
    first = kept_of(_all()[0], config.arrivals_folder).path("out/out.wav").read_bytes()
    assert (folders["out"] / "bulletin.wav").read_bytes() == first


def test_what_is_kept_of_arrivals_goes_after_its_days_and_their_rows_stay(draw, look, folders, config):
    draw()
    signals.write(folders["in"] / "tide.wav", signals.noise(2, -35))
    look()
    (arrival,) = _all()
    kept = config.arrivals_folder / str(arrival.id)
    sweep_arrivals(config)
    assert (kept / "came" / "came.wav").is_file()
    long_ago = datetime.now(UTC) - timedelta(days=config.arrival_days, hours=1)
    Arrival.update(finished_at=long_ago).where(Arrival.id == arrival.id).execute()
    (config.arrivals_folder / "999999").mkdir()
    os.utime(config.arrivals_folder / "999999", (1, 1))
    sweep_arrivals(config)
    assert not kept.exists()
    assert not (config.arrivals_folder / "999999").exists()
    assert find_arrival(arrival.id).files == {}


def test_what_was_published_is_said_so_also_where_its_file_is_gone_before_the_second_try(
    draw, look, folders, work_off
):
    """Killed after it was published and deleted, before that was saved."""
    draw(afterwards="delete")
    signals.write(folders["in"] / "one.wav", signals.noise(2, -30, seed=1))
    look()
    (arrival,) = _all()
    assert list(folders["in"].iterdir()) == []
    kept = {"came": arrival.files["came"]}
    Arrival.update(state="working", published=[], files=kept).where(Arrival.id == arrival.id).execute()
    assert requeue_forgotten() == 1
    work_off()
    assert find_arrival(arrival.id).state == "published"


def test_what_goes_before_it_is_taken_leaves_nothing(draw, config, work_off, folders):
    draw()
    path = signals.write(folders["in"] / "one.wav", signals.noise(2, -30))
    assert settled(Watcher(config)) == 1
    path.unlink()
    work_off()
    (arrival,) = _all()
    assert arrival.state == "gone"
    assert not list(config.arrivals_folder.glob("*"))


def test_what_is_held_for_want_of_room_is_told_once_and_published_when_there_is_some(
    draw, look, folders, hook, monkeypatch, config, work_off
):
    """Done again by itself for as long as that lasts: no alarm more, no line more."""
    monkeypatch.setattr("nicelevel.work.trying.PASSING_WAITS_S", ())
    draw(hook=hook)

    def full(*_):
        raise NoSpaceError("No space is left to write bulletin.wav.")

    monkeypatch.setattr("nicelevel.work.arriving.handled", full)
    signals.write(folders["in"] / "one.wav", signals.noise(1, -30))
    look()
    (held,) = _all()
    assert (held.state, held.error_code in PASSING) == ("held", True)
    for _ in range(3):
        Watcher(config).look()
        work_off()
    (still,) = _all()
    assert (still.state, still.told) == ("held", held.told)
    assert Telling.select().count() == 1
    monkeypatch.undo()
    Watcher(config).look()
    work_off()
    assert find_arrival(held.id).state == "published"


def test_what_is_the_same_takes_no_expected_time(draw, look, folders):
    draw(expected="* * * * *", under="{title}")
    sound = signals.noise(1, -30)
    for _ in range(2):
        signals.write(folders["in"] / "one.wav", sound)
        time.sleep(0.01)
        look()
    first, same = _all()
    assert (first.state, same.state) == ("published", "same")
    assert first.expected_at is not None
    assert (same.expected_at, same.is_late) == (None, False)


def test_another_schedule_makes_nothing_missing_that_was_before_it(draw, look):
    line = draw()
    type(line).update(made_at=datetime.now(UTC) - timedelta(hours=20)).where(type(line).id == line.id).execute()
    change_line(line, settings_of(line).model_copy(update={"expected": "*/10 * * * *", "late_after_s": 0.0}))
    look()
    assert _all() == []
