"""AC-3: the level of dialogue that it states, and its channels by what sounds in them (ATSC A/52:2018, 5.4.2.8)."""

import math
from dataclasses import replace

import numpy as np
import pytest

from nicelevel.core.errors import CannotMeetError, SpecError
from nicelevel.core.files import take_in
from nicelevel.core.files.ac3 import dialnorm_of, read_dialnorm_db
from nicelevel.core.measure import measure
from nicelevel.core.process import process
from nicelevel.core.specs import judge, parse_spec
from nicelevel.core.specs.write import spec_to_toml
from tests import signals

SPEC = """
[spec]
name = "Carrier"
[loudness]
target = {target}
tolerance = 1.0
[[formats]]
container = "ac3"
bitrate_kbps = 448
"""


def _spec(target=-24.0, more=""):
    return parse_spec(SPEC.format(target=target) + more, "carrier")


def stated_by_hand(data):
    """The five bits, picked out of the text of all bits: without our reader."""
    bits = "".join(f"{byte:08b}" for byte in data[:16])
    assert bits[:16] == f"{0x0B77:016b}"
    mode, at = int(bits[48:51], 2), 51
    at += 2 if mode in (3, 5, 7) else 0  # a centre in front
    at += 2 if mode >= 4 else 0  # surrounds
    at += 2 if mode == 2 else 0  # for matrixed playback
    return -int(bits[at + 1 : at + 6], 2)


@pytest.mark.parametrize("channels", [1, 2, 6])
@pytest.mark.parametrize("target", [-24.0, -16.4, -30.6])
def test_the_measured_level_is_stated_read_back_and_proved(tmp_path, channels, target):
    path = signals.write(tmp_path / "in.wav", 0.3 * signals.programme(12, channels=channels, seed=channels))
    (done,) = process(path, _spec(target), tmp_path / "out", replace=True)
    stated_db = stated_by_hand(done.path.read_bytes())
    assert read_dialnorm_db(done.path) == done.proof.reading.source.dialnorm_db == stated_db
    # Half of a whole number, and a little that the encoder moves.
    assert abs(done.proof.reading.integrated_lufs - stated_db) <= 0.6
    (finding,) = [each for each in done.proof.verdict.findings if each.rule == "dialnorm"]
    assert (finding.found, finding.meets) == (stated_db, True)
    assert [each.meets for each in done.plan.verdict.findings if each.rule == "dialnorm"] == [True]


def test_every_frame_states_it(tmp_path):
    path = signals.write(tmp_path / "in.wav", 0.3 * signals.programme(3, seed=2))
    (done,) = process(path, _spec(), tmp_path / "out", replace=True)
    data = done.path.read_bytes()
    size = 2 * {448: 896}[448]  # words of a frame at 48 kHz (A/52, table 5.18)
    assert len(data) % size == 0
    assert {stated_by_hand(data[at : at + size]) for at in range(0, len(data), size)} == {-24}


def test_a_typed_level_is_stated_and_judged_against_what_is_measured(tmp_path):
    path = signals.write(tmp_path / "in.wav", 0.3 * signals.programme(8, seed=3))
    (done,) = process(path, _spec(more="dialnorm = -25\n"), tmp_path / "near", replace=True)
    assert stated_by_hand(done.path.read_bytes()) == -25
    assert done.proof.verdict.meets
    with pytest.raises(CannotMeetError, match="stated dialogue level within 1 dB"):
        process(path, _spec(more="dialnorm = -27\n"), tmp_path / "far", replace=True)
    assert not list((tmp_path / "far").glob("*"))


def test_a_stream_that_misstates_its_level_is_noted_and_misses(tmp_path):
    path = signals.write(tmp_path / "in.wav", 0.3 * signals.programme(8, seed=4))
    (done,) = process(path, _spec(), tmp_path / "out", replace=True)
    reading = measure(done.path)
    assert "level_misstated" not in [note.code for note in reading.notes]
    assert judge(reading, _spec()).meets
    wrong = replace(reading, source=replace(reading.source, dialnorm_db=-31))
    (finding,) = [each for each in judge(wrong, _spec()).findings if not each.meets]
    assert (finding.rule, finding.found) == ("dialnorm", -31)


def test_a_level_that_players_would_go_wrong_by_is_noted_at_intake(tmp_path):
    """FFmpeg's own encoder states -31 where nobody says otherwise."""
    from tests.core.test_formats import ffmpeg

    path = signals.write(tmp_path / "in.wav", 0.3 * signals.programme(8, seed=5))
    ffmpeg("-i", str(path), "-c:a", "ac3", str(tmp_path / "plain.ac3"))
    reading = measure(tmp_path / "plain.ac3")
    assert reading.source.dialnorm_db == -31
    (note,) = [each for each in reading.notes if each.code == "level_misstated"]
    assert note.sentence.startswith("It states a dialogue level of −31 dB and has −")
    assert note.sentence.endswith("dB too loud.")


def test_channels_and_low_effects_are_where_they_were_put(tmp_path):
    """A tone in each channel, through encoder and decoder: by content, not by what a header says."""
    tones_hz = (500, 700, 1_000, 60, 1_400, 2_000)
    sound = np.concatenate([signals.sine(hz, -20.0, 3) for hz in tones_hz], axis=1)
    path = signals.write(tmp_path / "in.wav", sound)
    (done,) = process(path, _spec(), tmp_path / "out", replace=True)
    with take_in(done.path) as audio:
        assert audio.source.layout.name == "5.1"
        read = np.concatenate(list(audio.blocks(1 << 16)))[24_000:120_000]
    spectrum = np.abs(np.fft.rfft(read * np.hanning(len(read))[:, None], axis=0))
    loudest_hz = spectrum.argmax(axis=0) * 48_000 / len(read)
    assert loudest_hz == pytest.approx(tones_hz, abs=1.0)


@pytest.mark.parametrize(
    ("lufs", "stated_db"), [(-23.4, -23), (-23.6, -24), (-40.0, -31), (0.3, -1), (-math.inf, -31), (math.nan, -31)]
)
def test_what_can_be_stated_are_whole_numbers(lufs, stated_db):
    assert dialnorm_of(lufs) == stated_db


@pytest.mark.parametrize("data", [b"", b"\x0b\x77", b"RIFF" + 20 * b"\0", b"\x0b\x77" + 20 * b"\xff"])
def test_what_is_no_such_stream_states_nothing(tmp_path, data):
    (tmp_path / "x").write_bytes(data)
    assert read_dialnorm_db(tmp_path / "x") is None


def test_a_spec_says_it_of_ac3_alone_and_in_whole_numbers():
    assert _spec(more="dialnorm = -27\n").formats[0].dialnorm == -27
    assert "dialnorm = -27" in spec_to_toml(_spec(more="dialnorm = -27\n"))
    for wrong in ("dialnorm = -32\n", "dialnorm = 0\n", "dialnorm = -27.5\n", 'dialnorm = "x"\n'):
        with pytest.raises(SpecError, match="dialnorm"):
            _spec(more=wrong)
    with pytest.raises(SpecError, match="has no place for it"):
        parse_spec('[spec]\nname = "W"\n[[formats]]\ncontainer = "wav"\ndialnorm = -24\n', "w")
