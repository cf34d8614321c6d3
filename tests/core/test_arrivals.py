"""What comes into a folder: whole before it is touched, published whole or not at all, held with its reason."""

import os
import shutil
from datetime import datetime

import numpy as np
import pytest
import soundfile

from nicelevel.core.arrivals import Settling, open_line
from nicelevel.core.arrivals import memory as memories
from nicelevel.core.arrivals.memory import HIDDEN
from nicelevel.core.errors import NoSpaceError, NotFoundError, OutputExistsError, SpecError
from nicelevel.core.measure import measure
from nicelevel.core.specs import parse_spec
from tests import signals

SPEC = parse_spec(
    'spec.name = "Air"\nloudness = { target = -23.0, tolerance = 0.5 }\nlimits = { max_true_peak_dbtp = -1.0 }\n'
    'formats = [{ container = "wav", encoding = "pcm_24" }]',
    "air",
)
SETTLE_S = 2.0


@pytest.fixture
def folders(tmp_path):
    made = [tmp_path / name for name in ("in", "out", "held")]
    made[0].mkdir()
    return made


def _line(folders, name="{title}", spec=SPEC):
    _, publish, hold = folders
    return open_line(spec, (), publish, name, hold)


def _whole(folder):
    return Settling(folder, 0.0).look(0.0)


def _shown(folder):
    return sorted(path.name for path in folder.iterdir() if not path.name.startswith("."))


def _names(arrivals):
    return [each.path.name for each in arrivals]


def test_a_file_is_taken_when_size_and_time_are_still_and_its_header_is_satisfied(folders):
    """A slow writer: a header that promises more than has come, then all of it."""
    source, *_ = folders
    data = signals.write(source.parent / "x.wav", signals.noise(1)).read_bytes()
    settling, path = Settling(source, SETTLE_S), source / "Bulletin.wav"
    path.write_bytes(data[:1_000])
    assert _seen(settling, 0.0, 3.0) == []  # still, but cut
    path.write_bytes(data[:90_000])
    assert settling.look(4.0) == []
    path.write_bytes(data)
    assert _seen(settling, 5.0, 6.75) == []
    assert _names(settling.look(7.0)) == ["Bulletin.wav"]
    os.utime(path, ns=(1, 1))
    assert _seen(settling, 7.5, 9.25) == []  # touched
    assert _names(settling.look(9.5)) == ["Bulletin.wav"]


def _seen(settling, first_s, last_s):
    """What is told by any look, four times a second from the first to the last."""
    count = round(4 * (last_s - first_s)) + 1
    return [each for number in range(count) for each in settling.look(first_s + number / 4)]


def test_a_machine_that_stood_still_has_not_seen_a_file_be_still(folders):
    """Who writes it may have stood still with it: a suspended machine, or one that had no processor for a while."""
    source, *_ = folders
    path = source / "Not audio.txt"
    path.write_bytes(b"The bull")
    settling = Settling(source, SETTLE_S)
    assert settling.look(0.0) == settling.look(3_600.0) == []
    path.write_bytes(b"The bulletin is not ready yet.")
    assert _seen(settling, 3_600.5, 3_602.25) == []
    assert _names(settling.look(3_602.5)) == ["Not audio.txt"]


def test_what_stays_cut_is_waited_for_ten_times_as_long(folders):
    source, *_ = folders
    whole = signals.write(source.parent / "x.wav", signals.noise(1)).read_bytes()
    (source / "a.wav").write_bytes(whole[:5_000])
    (source / "b.wav").write_bytes(b"")
    settling = Settling(source, SETTLE_S)
    assert _seen(settling, 0.0, 19.75) == []
    assert [each.why.code for each in settling.look(20.0)] == ["truncated", "empty"]
    again = Settling(source, SETTLE_S)
    assert _seen(again, 0.0, 1.75) == []
    assert len(again.look(2.0, is_last=True)) == 2


def test_names_that_are_not_for_us_and_folders_are_left_alone(folders):
    source, *_ = folders
    for name in (".hidden.wav", "a.wav.part", "b.tmp", "c.wav~"):
        (source / name).write_bytes(b"x")
    (source / "deeper.wav").mkdir()
    assert _whole(source) == []
    (source / "text.wav").write_text("no audio at all, but long enough to be told from nothing")
    assert [each.why.code for each in _whole(source)] == ["not_audio"]


def test_an_arrival_is_published_levelled_under_its_name_and_stays(folders):
    source, publish, _ = folders
    path = signals.write(source / "Bulletin.wav", signals.noise(4, -35))
    line = _line(folders)
    before = path.read_bytes()
    (arrival,) = _whole(source)
    outcome = line.handle(arrival)
    assert [each.name for each in outcome.published] == ["Bulletin.wav"]
    assert measure(publish / "Bulletin.wav").integrated_lufs == pytest.approx(-23.0, abs=0.05)
    assert path.read_bytes() == before
    assert line.is_done(arrival)
    assert line.handle(arrival) is None  # that is what is published
    assert [each.name for each in (publish / HIDDEN).iterdir()] == ["state.json"]
    line.memory.close()
    assert _line(folders).is_done(arrival)


def test_one_name_by_the_hour_takes_what_comes_last_and_a_then_b_then_a(folders):
    source, publish, _ = folders
    line = open_line(SPEC, (), publish, "news {date} {hour}", None)
    object.__setattr__(line, "now", lambda: datetime(2026, 11, 27, 14, 25))
    sounds = {name: signals.noise(3, level) for name, level in (("a", -35), ("b", -30))}
    sums = []
    for number, name in enumerate("aba"):
        path = signals.write(source / f"{name}.wav", sounds[name])
        os.utime(path, ns=(number, number))
        (arrival,) = [each for each in _whole(source) if not line.is_done(each)]
        assert line.handle(arrival).published == (publish / "news 2026-11-27 14.wav",)
        sums.append(soundfile.read(publish / "news 2026-11-27 14.wav")[0])
    assert np.array_equal(sums[0], sums[2])
    assert not np.array_equal(sums[0], sums[1])
    os.utime(source / "a.wav", ns=(9, 9))
    (arrival,) = [each for each in _whole(source) if not line.is_done(each)]
    assert line.handle(arrival) is None  # the same contents under the same name
    assert _shown(publish) == ["news 2026-11-27 14.wav"]


def test_what_fails_is_held_with_its_reason_and_the_last_good_one_stays(folders):
    source, publish, hold = folders
    line = _line(folders, "news")
    signals.write(source / "good.wav", signals.noise(3, -30))
    line.handle(_whole(source)[0])
    good = (publish / "news.wav").read_bytes()
    for number in range(2):
        (source / "bad.wav").write_text(f"no audio, but something else {number} that is long enough")
        (arrival,) = [each for each in _whole(source) if not line.is_done(each)]
        outcome = line.handle(arrival)
        assert outcome.error.code == "not_audio"
        assert outcome.published == ()
    signals.write(
        source / "spikes.wav",
        np.pad(0.99 * np.ones((1, 2)), ((48_000, 96_000), (0, 0))) + signals.noise(144_001 / 48_000, -60),
    )
    (arrival,) = [each for each in _whole(source) if not line.is_done(each)]
    assert line.handle(arrival).error.code == "cannot_meet"
    assert (publish / "news.wav").read_bytes() == good
    expected = ["bad 2.wav", "bad 2.wav.txt", "bad.wav", "bad.wav.txt", "spikes.wav", "spikes.wav.txt"]
    assert _shown(hold) == expected
    assert (hold / "bad.wav.txt").read_text().startswith("not_audio: ")
    assert (hold / "spikes.wav").read_bytes() == (source / "spikes.wav").read_bytes()


@pytest.mark.parametrize("is_reason_written", [True, False])
def test_what_was_being_held_when_its_line_was_killed_is_held_once(folders, is_reason_written):
    """It is done once more, for nothing says that it was done; another file of that name is another."""
    source, publish, hold = folders
    (source / "bad.wav").write_text("no audio, but something that is long enough")
    for _ in range(2):
        shutil.rmtree(publish, ignore_errors=True)
        line = _line(folders)
        outcome = line.handle(_whole(source)[0])
        line.memory.close()
        assert outcome.held == hold / "bad.wav"
        assert _shown(hold) == ["bad.wav", "bad.wav.txt"]
        if not is_reason_written:
            (hold / "bad.wav.txt").unlink()
    (source / "bad.wav").write_text("no audio, and it is long enough but another")
    line = _line(folders)
    assert line.handle(_whole(source)[0]).held == hold / "bad 2.wav"


def test_what_changes_while_it_is_read_comes_again(folders, monkeypatch):
    source, publish, _ = folders
    path = signals.write(source / "a.wav", signals.noise(2))
    line = _line(folders)
    (arrival,) = _whole(source)
    os.utime(path, ns=(5, 5))
    assert line.handle(arrival) is None
    assert not line.is_done(arrival)
    path.unlink()
    assert line.handle(arrival) is None
    assert _shown(publish) == []


def test_a_process_that_is_killed_between_two_names_is_finished_by_the_next(folders, monkeypatch):
    """Two formats are published together or not at all."""
    source, publish, _ = folders
    two = parse_spec(
        'spec.name = "Two"\nloudness = { target = -23.0, tolerance = 0.5 }\n'
        'formats = [{ container = "wav", encoding = "pcm_24" }, { container = "flac", encoding = "flac" }]',
        "two",
    )
    signals.write(source / "a.wav", signals.noise(2, -30))
    line = _line(folders, spec=two)
    (arrival,) = _whole(source)
    replace, done = os.replace, []

    def killed(one, other):
        if str(other).endswith((".wav", ".flac")):
            done.append(other)
            if len(done) == 2:
                raise KeyboardInterrupt
        replace(one, other)

    monkeypatch.setattr(memories.os, "replace", killed)
    monkeypatch.setattr(memories.Memory, "leave", lambda self, room: None)  # who is killed tidies nothing
    with pytest.raises(KeyboardInterrupt):
        line.handle(arrival)
    assert len(_shown(publish)) == 1
    line.memory.close()
    monkeypatch.undo()
    after = _line(folders, spec=two)
    assert _shown(publish) == ["a.flac", "a.wav"]
    assert after.is_done(arrival)
    assert [each.name for each in (publish / HIDDEN).iterdir()] == ["state.json"]


def test_a_full_disk_is_no_outcome_and_two_lines_do_not_share_a_folder(folders, monkeypatch):
    source, *_ = folders
    signals.write(source / "a.wav", signals.noise(2, -30))
    line = _line(folders)
    (arrival,) = _whole(source)
    monkeypatch.setattr("nicelevel.core.arrivals.line.bring", _full)
    with pytest.raises(NoSpaceError):
        line.handle(arrival)
    assert not line.is_done(arrival)
    monkeypatch.undo()
    with pytest.raises(OutputExistsError, match="Another line"):
        _line(folders)
    assert line.handle(arrival).published


def _full(*_):
    raise NoSpaceError("No space is left.")


def test_a_folder_that_is_away_for_a_while_is_said(folders):
    source, *_ = folders
    settling = Settling(source, 0.0)
    source.rename(source.with_name("away"))
    with pytest.raises(NotFoundError, match="cannot be looked into"):
        settling.look(0.0)
    source.with_name("away").rename(source)
    assert settling.look(1.0) == []


def test_a_name_with_other_fields_or_with_nothing_is_refused(folders):
    source, *_ = folders
    for name in ("{artist}", "{title", "{title.x}"):
        with pytest.raises(SpecError):
            _line(folders, name)
    line = _line(folders, "a~")
    signals.write(source / "a.wav", signals.noise(2, -30))
    assert line.handle(_whole(source)[0]).error.code == "spec"
