"""What an encoder will do is told from the most critical seconds: one round is enough for most programmes."""

import numpy as np
import pytest

from nicelevel.core.measure import measure
from nicelevel.core.process import process
from nicelevel.core.rehearse import PIECE_S, PIECES, SHORTEST_S, critical_starts_s
from nicelevel.core.specs import parse_spec
from tests import signals

SPEC = """
spec.name = "House"
loudness = {{ target = {target}, tolerance = 0.5 }}
limits = {{ max_true_peak_dbtp = -1.0 }}
method = {{ allow = "limiter" }}
formats = [{{ container = "{container}", encoding = "{encoding}", bitrate_kbps = 128 }}]
"""


@pytest.fixture(scope="module")
def song(tmp_path_factory):
    signal = signals.programme(SHORTEST_S + 4, seed=7)
    return signals.write(tmp_path_factory.mktemp("sources") / "song.wav", 0.4 * signal)


@pytest.mark.parametrize(
    ("container", "encoding", "most_rounds"),
    [("mp3", "mp3", 1), ("m4a", "aac", 3), ("ogg", "opus", 1), ("ogg", "vorbis", 1)],
)
def test_a_rehearsed_programme_is_encoded_once(tmp_path, song, container, encoding, most_rounds):
    """But for AAC at a low bit rate, which passes its ceiling by another amount with every tenth of a dB of gain."""
    spec = parse_spec(SPEC.format(target=-15.0, container=container, encoding=encoding), "house")
    (done,) = process(song, spec, tmp_path)
    read = measure(done.path)
    assert done.rounds <= most_rounds
    assert done.proof.verdict.meets
    assert read.true_peak_dbtp <= -1.0
    assert read.integrated_lufs == pytest.approx(-15.0, abs=0.15)
    assert done.plan != done.asked


def test_what_an_encoder_takes_of_the_level_is_made_up_for_in_the_first_round(tmp_path, song):
    """At 128 kbit/s it leaves out the highest octave: noise loses 1 LU by that."""
    spec = parse_spec(SPEC.format(target=-30.0, container="mp3", encoding="mp3"), "house")
    told: list[float] = []
    (done,) = process(song, spec, tmp_path, progress=told.append)
    assert (done.rounds, done.plan.action) == (1, "gain")
    assert told == sorted(told)
    assert told[-1] > 0.9
    assert done.plan.gain_db > done.asked.gain_db + 0.5
    assert done.proof.reading.integrated_lufs == pytest.approx(-30.0, abs=0.1)


def test_the_densest_places_are_taken_and_none_twice():
    peaks = np.full(30_000, 0.1, np.float32)
    for start_s in (20, 100, 200):
        peaks[start_s * 100 : (start_s + PIECE_S) * 100] = 0.9
    peaks[15_000] = 1.0
    starts_s = critical_starts_s(peaks, None)
    assert {20, 100, 200} <= set(starts_s)
    assert any(150 - PIECE_S < start_s <= 150 for start_s in starts_s)
    assert len(starts_s) == PIECES
    assert np.diff(starts_s).min() >= PIECE_S
