"""A contribution written and taken: what it says of itself by a reader of the tests, what is wrong by the desk."""

import struct
from fractions import Fraction
from xml.etree import ElementTree

import numpy as np
import pytest

from nicelevel.core.contribution import FRAME_RATES, Wanted, contribute, told_by
from nicelevel.core.errors import DamagedError, SpecError
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from nicelevel.core.speech import dialogue_of
from nicelevel.core.steps.fold import Fold
from nicelevel.core.steps.fold_matrix import fold_matrix
from nicelevel.stand_ins.contribution_desk.check import check_contribution
from nicelevel.stand_ins.contribution_desk.order import SIX, TWO
from nicelevel.stand_ins.contribution_desk.transport import samples_that_differ, unwrap, wrap
from nicelevel.stand_ins.receiving_desk.app import create_desk
from tests import episodes, signals
from tests.speech_and_music import talk

RATE_HZ, SECONDS = 48_000, 10
assert episodes.RATE_HZ == RATE_HZ


def _surround():
    """Speech in the centre, music of its own at each side and behind, thunder under 100 Hz in the LFE."""
    voice, _ = talk(37, SECONDS + 10)
    sound = 0.1 * np.concatenate([signals.noise(SECONDS, -16, channels=1, seed=seed) for seed in range(6)], axis=1)
    sound[:, 2] = 1.2 * voice[4 * RATE_HZ :][: SECONDS * RATE_HZ, 0]
    beat = np.sin(2 * np.pi * 47.0 * np.arange(SECONDS * RATE_HZ) / RATE_HZ)
    sound[:, 3] = 0.1 * beat * np.clip(np.sin(2 * np.pi * 0.3 * np.arange(SECONDS * RATE_HZ) / RATE_HZ), 0, 1)
    return sound


FOLDED = fold_matrix(SIX, TWO, Fold(layout="stereo")).T


@pytest.fixture(scope="module")
def mixes(tmp_path_factory):
    folder = tmp_path_factory.mktemp("mixes")
    surround = _surround()
    return [
        signals.write(folder / "full.wav", surround, RATE_HZ),
        signals.write(folder / "two.wav", 0.7 * surround @ FOLDED, RATE_HZ),
    ]


def chunks_of_file(path):
    """Magic and chunks of a file with `ds64`, read without our code (ITU-R BS.2088)."""
    data, found, at = path.read_bytes(), {}, 12
    while at + 8 <= len(data):
        name, size = struct.unpack_from("<4sI", data, at)
        if name == b"data" and size == 0xFFFFFFFF:
            size = struct.unpack_from("<Q", found[b"ds64"], 8)[0]
        found[name] = data[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
    return data[:4], found


LABELS = ("Full mix", "For two")


def _made(mixes, to, rate="25", start="10:00:00:00", guard_s=2.0):
    return contribute(mixes, to, LABELS, Wanted(rate, start, guard_s))


def _answer(path, tmp_path):
    room = tmp_path / "room"
    room.mkdir(exist_ok=True)
    return check_contribution(path, room)


@pytest.mark.parametrize(
    ("rate", "start", "frames"),
    [
        ("25", "10:00:00:00", 900_000),
        ("24", "00:00:01:00", 24),
        ("29.97", "01:00:00:00", 108_000),
        ("29.97 drop", "01:00:00;00", 107_892),
        ("29.97 drop", "00:01:00;02", 1_800),
        ("29.97 drop", "00:10:00;00", 17_982),
        ("59.94 drop", "01:00:00;00", 215_784),
    ],
)
def test_times_of_day_are_counted_as_pictures_are(rate, start, frames):
    """SMPTE ST 12-1: in drop-frame counting an hour has 107 892 frames of 29.97."""
    known = FRAME_RATES[rate]
    assert known.frames(start) == frames
    assert known.text(frames) == start


@pytest.mark.parametrize("rate", ["29.97 drop", "59.94 drop", "25"])
def test_every_frame_of_an_hour_has_its_own_time(rate):
    known = FRAME_RATES[rate]
    for frame in range(0, known.frames("01:10:00:00"), 7):
        assert known.frames(known.text(frame)) == frame


@pytest.mark.parametrize("text", ["10:00:00", "24:00:00:00", "10:00:00:25", "x", "10:60:00:00"])
def test_a_time_that_is_none_is_refused(text):
    with pytest.raises(SpecError):
        FRAME_RATES["25"].frames(text)
    with pytest.raises(SpecError, match="left out"):
        FRAME_RATES["29.97 drop"].frames("00:01:00;00")


def test_what_is_written_says_when_how_loud_and_what(mixes, tmp_path):
    """Chunks by a reader of the tests; structure: ITU-R BS.2088 (BW64), EBU Tech 3285 (bext), ITU-R BS.2076."""
    made = _made(mixes, tmp_path / "c.wav")
    magic, chunks = chunks_of_file(made.joined.path)
    assert magic == b"BW64"
    assert struct.unpack_from("<Q", chunks[b"bext"], 338)[0] == (36_000 - 2) * RATE_HZ
    assert made.configuration == "5.1+2"
    root = ElementTree.fromstring(chunks[b"axml"])
    programmes = [each for each in root.iter() if each.tag.endswith("}audioProgramme")]
    assert [each.get("start") for each in programmes] == ["00:00:02.00000"] * 2
    for programme, path in zip(programmes, mixes, strict=True):
        stated = {each.tag.rpartition("}")[2]: each.text for each in programme.iter()}
        reading = measure(path)
        assert float(stated["integratedLoudness"]) == pytest.approx(reading.integrated_lufs, abs=0.006)
        assert float(stated["maxTruePeak"]) == pytest.approx(reading.true_peak_dbtp, abs=0.006)
        with take_in(path) as audio:
            assert float(stated["dialogueLoudness"]) == pytest.approx(dialogue_of(audio).lufs, abs=0.006)
    with take_in(made.joined.path) as audio:
        samples = np.concatenate(list(audio.blocks(RATE_HZ)))
    assert not samples[: 2 * RATE_HZ].any()
    with take_in(mixes[0]) as audio:
        assert np.array_equal(samples[2 * RATE_HZ :, :6], np.concatenate(list(audio.blocks(RATE_HZ))))


def test_the_desk_takes_what_is_right_and_sends_every_sample_through(mixes, tmp_path):
    made = _made(mixes, tmp_path / "c.wav")
    answer = _answer(made.joined.path, tmp_path)
    assert (answer["state"], answer["reasons"]) == ("accepted", [])
    assert answer["start"] == "10:00:00:00"
    assert answer["sent_through"] == {
        "pictures": 25 * (SECONDS + 2),
        "samples": 8 * (SECONDS + 2) * RATE_HZ,
        "differing": 0,
    }
    assert list((tmp_path / "room").iterdir()) == []


@pytest.mark.parametrize("rate", ["29.97 drop", "23.976", "59.94"])
def test_a_frame_that_is_no_whole_number_of_samples_is_met_to_the_nearest(mixes, tmp_path, rate):
    made = _made(mixes, tmp_path / "c.wav", rate, "10:00:00:12", 1.01)
    assert made.guard_frames >= 1.01 * RATE_HZ
    assert _answer(made.joined.path, tmp_path)["state"] == "accepted"


def test_a_hundred_shuffles_are_all_found_by_what_is_heard(mixes, tmp_path):
    """Eight channels in any order but the right one, described as if they were in it."""
    made = _made(mixes, tmp_path / "c.wav", guard_s=0.0)
    data = made.joined.path.read_bytes()
    at = len(data) - 8 * 3 * SECONDS * RATE_HZ
    words = np.frombuffer(data[at:], np.uint8).reshape(-1, 8, 3)
    generator, found = np.random.default_rng(5), 0
    shuffled = tmp_path / "shuffled.wav"
    for _ in range(100):
        order = generator.permutation(8)
        while (order == np.arange(8)).all():
            order = generator.permutation(8)
        shuffled.write_bytes(data[:at] + words[:, order].tobytes())
        answer = _answer(shuffled, tmp_path)
        signs = ("holds more than bass", "the order is", "fold-down of the others", "Speech is in")
        found += answer["state"] == "rejected" and any(sign in each for each in answer["reasons"] for sign in signs)
    assert found == 100


@pytest.mark.parametrize("pair", [(0, 1), (4, 5), (0, 4), (2, 3), (6, 7), (0, 2), (1, 7)])
def test_two_that_are_exchanged_are_found(mixes, tmp_path, pair):
    made = _made(mixes, tmp_path / "c.wav", guard_s=0.0)
    data = made.joined.path.read_bytes()
    at = len(data) - 8 * 3 * SECONDS * RATE_HZ
    words = np.frombuffer(data[at:], np.uint8).reshape(-1, 8, 3).copy()
    words[:, pair] = words[:, pair[::-1]]
    (tmp_path / "s.wav").write_bytes(data[:at] + words.tobytes())
    assert _answer(tmp_path / "s.wav", tmp_path)["state"] == "rejected"


def test_an_own_mix_for_two_is_taken_too(mixes, tmp_path):
    """Not every mix in stereo is a fold-down."""
    other = signals.write(tmp_path / "other.wav", signals.programme(SECONDS, seed=3), RATE_HZ)
    made = _made([mixes[0], other], tmp_path / "c.wav")
    assert _answer(made.joined.path, tmp_path)["reasons"] == []


def _with(path, to, old, new):
    data = path.read_bytes()
    assert data.count(old) == 1
    assert len(old) == len(new)
    to.write_bytes(data.replace(old, new))
    return to


def test_a_level_that_was_typed_is_found(mixes, tmp_path):
    made = _made(mixes, tmp_path / "c.wav")
    lufs = f"{made.levels[0].figures['integrated_lufs']:.2f}"
    path = _with(
        made.joined.path,
        tmp_path / "typed.wav",
        f"<integratedLoudness>{lufs}<".encode(),
        b"<integratedLoudness>-23.00<",
    )
    (reason,) = _answer(path, tmp_path)["reasons"]
    assert reason.startswith("Full mix states a loudness of −23.00 and has −")
    left_out = _with(
        made.joined.path, tmp_path / "left.wav", f"Loudness>{lufs}<".encode(), f"Loudness>{'?' * len(lufs)}<".encode()
    )
    assert _answer(left_out, tmp_path)["reasons"] == ["Full mix does not state its loudness."]


def test_a_start_off_the_frame_and_another_than_is_stated_are_found(mixes, tmp_path):
    made = _made(mixes, tmp_path / "c.wav")
    right = struct.pack("<Q", made.time_reference)
    for moved, words in (
        (7, "It starts 7 samples after a frame of 25."),
        (-1, "1 samples before a frame"),
        (1_920, "states a start"),
    ):
        path = _with(made.joined.path, tmp_path / "m.wav", right, struct.pack("<Q", made.time_reference + moved))
        (reason,) = _answer(path, tmp_path)["reasons"]
        assert words in reason


def test_a_silent_channel_a_sounding_guard_and_a_wrong_configuration_are_found(mixes, tmp_path):
    surround = _surround()
    surround[:, 4] = 0.0
    silent = signals.write(tmp_path / "silent.wav", surround, RATE_HZ)
    two = signals.write(tmp_path / "two.wav", 0.7 * surround @ FOLDED, RATE_HZ)
    assert (
        "Full mix: Ls is silent."
        in _answer(_made([silent, two], tmp_path / "a.wav").joined.path, tmp_path)["reasons"]
    )
    (reason, *_) = _answer(_made(mixes[::-1], tmp_path / "b.wav").joined.path, tmp_path)["reasons"]
    assert reason == "A programme in 5.1 and one in stereo are taken, in this order; it has stereo and 5.1."
    made = _made(mixes, tmp_path / "c.wav")
    data = bytearray(made.joined.path.read_bytes())
    data[len(data) - 8 * 3 * (SECONDS + 1) * RATE_HZ] = 1
    (tmp_path / "d.wav").write_bytes(data)
    assert _answer(tmp_path / "d.wav", tmp_path)["reasons"] == ["The 2 s before its start are not silent."]
    surround[:, 4], surround[:, 3] = _surround()[:, 4], 0.0
    quiet = [signals.write(tmp_path / "q.wav", surround, RATE_HZ), mixes[1]]
    answer = _answer(_made(quiet, tmp_path / "e.wav").joined.path, tmp_path)
    assert (answer["state"], answer["remarks"]) == ("accepted", ["Full mix: LFE is silent."])


def test_what_is_no_contribution_is_refused_with_a_sentence(mixes, tmp_path):
    assert _answer(mixes[0], tmp_path)["reasons"] == ["It does not describe its programmes."]
    with pytest.raises(DamagedError):
        told_by(mixes[1])
    with pytest.raises(SpecError, match="day before"):
        _made(mixes, tmp_path / "x.wav", start="00:00:01:00")
    with pytest.raises(SpecError, match="no such frame rate"):
        _made(mixes, tmp_path / "x.wav", rate="26")
    assert not (tmp_path / "x.wav").exists()


def test_what_is_lost_or_changed_on_the_way_is_counted(mixes, tmp_path):
    """Pictures of 29.97: 8 008 samples in five of them (SMPTE ST 272)."""
    rate, wrapped = Fraction(30_000, 1_001), tmp_path / "w"
    wrap(mixes[0], wrapped, rate)
    lengths = [len(picture) for picture in unwrap(wrapped)]
    assert sum(lengths[:5]) == 8_008
    assert set(lengths[:-1]) == {1_601, 1_602}
    assert samples_that_differ(mixes[0], wrapped) == (6 * SECONDS * RATE_HZ, 0)
    other = signals.write(tmp_path / "other.wav", 0.5 * _surround(), RATE_HZ)
    assert samples_that_differ(other, wrapped)[1] > 5 * SECONDS * RATE_HZ
    short = signals.write(tmp_path / "short.wav", _surround()[:-100], RATE_HZ)
    assert samples_that_differ(short, wrapped)[1] == 600
    data = bytearray(wrapped.read_bytes())
    data[100_000] ^= 1
    wrapped.write_bytes(data)
    with pytest.raises(DamagedError, match="did not come through"):
        list(unwrap(wrapped))


def test_over_http(mixes, tmp_path):
    desk = create_desk(tmp_path / "desk").test_client()
    made = _made(mixes, tmp_path / "c.wav")
    assert desk.post("/contributions", data=b"x", content_type="text/plain").status_code == 415
    taken = desk.post("/contributions", data=made.joined.path.read_bytes(), content_type="audio/wav")
    assert taken.status_code == 202
    answer = {"state": "checking"}
    while answer["state"] == "checking":
        answer = desk.get(taken.json["receipt"]).json
    assert answer["state"] == "accepted"
    assert answer["desk"].startswith("Contribution desk")
    assert desk.get("/contributions/nothing").status_code == 404
