"""Schedules by the clock on the wall, also where it is changed; what a drift is; one more version back."""

import time
from datetime import date, datetime

import pytest
from pydantic import ValidationError

from nicelevel.core.arrivals import LineSettings, Settling, open_line
from nicelevel.core.arrivals.drift import drift_of
from nicelevel.core.arrivals.line import Terms
from nicelevel.core.arrivals.memory import has_before
from nicelevel.core.arrivals.schedule import day_span, expected_on, overdue, schedule_words, slot_of
from nicelevel.core.arrivals.settings import line_to_toml, parse_line
from nicelevel.core.arrivals.under import published_name
from nicelevel.core.clock import Clock, clock_of
from nicelevel.core.errors import NotFoundError, SpecError
from tests import signals

from .test_arrivals import SPEC


@pytest.fixture
def berlin(monkeypatch):
    """Central European Time: winter time begins on 25 October 2026, summer on 29 March (Directive 2000/84/EC)."""
    monkeypatch.setenv("TZ", "Europe/Berlin")
    time.tzset()
    expected_on.cache_clear()
    yield
    monkeypatch.undo()
    time.tzset()
    expected_on.cache_clear()


@pytest.mark.parametrize(
    ("words", "day", "count"),
    [
        ("0 * * * *", date(2026, 10, 24), 24),
        ("0 * * * *", date(2026, 10, 25), 25),
        ("0 * * * *", date(2026, 3, 29), 23),
        ("30 2 * * *", date(2026, 10, 25), 1),
        ("30 2 * * *", date(2026, 3, 29), 0),
        ("25,55 * * * *", date(2026, 10, 25), 50),
        ("*/15 6-8 * * 1-5", date(2026, 11, 27), 12),
        ("*/15 6-8 * * 1-5", date(2026, 11, 28), 0),
        ("", date(2026, 11, 28), 0),
    ],
)
def test_what_is_expected_on_a_day(berlin, words, day, count):
    times = expected_on(words, day)
    first, last = day_span(day)
    assert len(times) == count
    assert list(times) == sorted(set(times))
    assert all(first <= at < last for at in times)


def test_the_first_of_two_equal_hours_is_meant_where_one_is(berlin):
    (at,) = expected_on("30 2 * * *", date(2026, 10, 25))
    assert datetime.fromtimestamp(at).astimezone().utcoffset().total_seconds() == 7_200  # still summer time


@pytest.mark.parametrize("words", ["0 * * *", "61 * * * *", "hourly", "0 * * * * *", "@hourly"])
def test_what_are_no_words_of_cron_is_said(words, tmp_path):
    with pytest.raises(SpecError, match="no words of cron"):
        LineSettings(name="x", folder=str(tmp_path), expected=words)


def test_usual_schedules_are_said_in_words():
    assert schedule_words("") == "when it comes"
    assert schedule_words("0 * * * *") == "on the hour"
    assert schedule_words("25,55 * * * *") == "at :25 and :55"
    assert schedule_words("0 6,18 * * *") == "at 06:00, 18:00"
    assert schedule_words("*/10 * * * *") == "by */10 * * * *"


def test_an_arrival_is_for_the_nearest_time_that_nothing_came_for():
    hour = datetime(2026, 11, 28, 13).timestamp()
    assert slot_of(hour + 5, "0 * * * *", 300, set()).at_s == hour
    assert slot_of(hour - 60, "0 * * * *", 300, set()).at_s == hour  # a little early
    late = slot_of(hour + 1_000, "0 * * * *", 300, set())
    assert late.at_s == hour
    assert late.late_s == hour + 300
    assert slot_of(hour + 1_000, "0 * * * *", 300, {hour}).at_s == hour - 3_600  # the one before never came
    assert slot_of(hour, "0 * * * *", 300, {hour, hour - 3_600}) is None


def test_what_is_overdue_is_told_once_it_is_late():
    hour = datetime(2026, 11, 28, 13).timestamp()
    assert overdue(hour + 299, "0 * * * *", 300, set(), hour - 60) == []
    assert overdue(hour + 300, "0 * * * *", 300, set(), hour - 60) == [hour]
    assert overdue(hour + 300, "0 * * * *", 300, {hour}, hour - 60) == []
    assert overdue(hour + 300, "0 * * * *", 300, set(), hour) == []  # the line was drawn later


def test_a_drift_is_named_from_where_it_begins_and_an_odd_one_is_none():
    steady = [(float(at), -28.0 + 0.2 * (at % 2)) for at in range(20)]
    assert drift_of(steady) is None
    assert drift_of([*steady, (20.0, -40.0)]) is None
    quieter = [(at, level - 3.0 if at >= 13 else level) for at, level in steady]
    found = drift_of(quieter)
    assert found.since_s == 13.0
    assert found.by_lu == pytest.approx(-3.0, abs=0.2)
    assert drift_of([(at, level - 1.0 if at >= 13 else level) for at, level in steady]) is None
    restless = [(float(at), -30.0 + 5.0 * (at % 2)) for at in range(20)]
    assert drift_of(restless) is None


def test_a_clock_for_rehearsals_runs_faster(monkeypatch):
    monkeypatch.setattr(time, "time", lambda: 1_010.0)
    assert Clock(500.0, 1_000.0, 144.0).now_s() == 500.0 + 1_440.0
    assert clock_of("").now_s() == 1_010.0
    assert clock_of("500 144 1000").now_s() == 1_940.0
    for wrong in ("soon", "1 0 1", "1 2"):
        with pytest.raises(SpecError):
            clock_of(wrong)


def test_a_line_is_read_from_what_is_written_of_it(tmp_path):
    line = LineSettings(
        name="Tide", folder="/in", publish="/air", spec="podcast", under="a/{date}_{hour}", longest_s=9
    )
    assert parse_line(line_to_toml(line)) == line
    for wrong in ("", "[line]", "[lines]\nname = 'x'", "[line]\nname = 'x'\nfolder = '/a'\ncolour = 1"):
        with pytest.raises(SpecError):
            parse_line(wrong)


def test_names_make_folders_where_the_line_says_so_and_titles_make_none():
    now = datetime(2026, 11, 28, 14, 3)
    assert published_name("ferry/{date}_{hour}", "x", now) == "ferry/2026-11-28_14"
    assert "/" not in published_name("{title}", "../etc/passwd", now)
    for name in ("{title}.tmp", "{title}~"):
        with pytest.raises(SpecError):
            published_name(name, "x", now)


def _handle(line, source, name, sound):
    signals.write(source / name, sound)
    (arrival,) = [each for each in Settling(source, 0.0).look(0.0) if each.name == name]
    return line.handle(arrival)


@pytest.fixture
def line(tmp_path):
    (tmp_path / "in").mkdir()
    made = open_line(SPEC, (), tmp_path / "out", "bulletin", None)
    yield made
    made.memory.close()


def test_one_more_version_back_is_put_on_air_again_and_back_again(line, tmp_path):
    source, out = tmp_path / "in", tmp_path / "out" / "bulletin.wav"
    with pytest.raises(NotFoundError):
        line.memory.put_back("bulletin")
    _handle(line, source, "one.wav", signals.noise(1, -30, seed=1))
    first = out.read_bytes()
    assert not has_before(tmp_path / "out", "bulletin")
    _handle(line, source, "two.wav", signals.noise(1, -30, seed=2))
    second = out.read_bytes()
    assert has_before(tmp_path / "out", "bulletin")
    assert line.memory.put_back("bulletin") == [out]
    assert out.read_bytes() == first
    line.memory.put_back("bulletin")
    assert out.read_bytes() == second
    assert [each.name for each in (tmp_path / "out").iterdir() if not each.name.startswith(".")] == ["bulletin.wav"]


def test_what_is_too_short_or_too_long_is_refused_unless_it_is_forced(line, tmp_path):
    from dataclasses import replace

    source = tmp_path / "in"
    for terms, code in ((Terms(shortest_s=2.0), "length"), (Terms(longest_s=0.5), "length")):
        outcome = _handle(replace(line, terms=terms), source, f"{code}{terms.longest_s}.wav", signals.noise(1, -30))
        assert outcome.error.code == code
        assert "allowed is" in outcome.error.message
    forced = Terms(shortest_s=2.0, is_forced=True)
    assert _handle(replace(line, terms=forced), source, "x.wav", signals.noise(1, -30)).published


def test_a_file_is_waited_for_until_its_marker_is_there_where_a_line_says_so(tmp_path):
    settling = Settling(tmp_path, 1.0, marker=".done")
    for name in ("a.wav", "b.wav"):
        signals.write(tmp_path / name, signals.noise(1))
    assert [settling.look(now_s) for now_s in (0.0, 0.5, 5.0)] == [[], [], []]
    (tmp_path / "a.wav.done").touch()
    (tmp_path / "b.done").touch()
    assert settling.look(6.0) == settling.look(6.5) == []
    assert [each.name for each in settling.look(7.0)] == ["a.wav", "b.wav"]
    with pytest.raises(ValidationError, match="an ending like"):
        LineSettings(name="x", folder="/in", marker="done")
