"""Before and after: columns against the samples themselves, and what changed, in words."""

import numpy as np
import pytest

from nicelevel.core.hear import score
from nicelevel.core.hear.changes import Changes
from nicelevel.core.hear.differences import Band, Differences, Edit
from nicelevel.core.measure.hop_files import waveform_name
from nicelevel.core.prepare import prepare
from nicelevel.report.before_after import Side, blind_words, both_series_bytes, changes_words, columns_bytes
from tests import signals

RATE = 48_000


@pytest.fixture
def side(tmp_path):
    """A measured programme with its waveform."""
    path = signals.write(tmp_path / "take.wav", 0.8 * signals.programme(20, seed=6), RATE)
    reading = prepare(path, hops_folder=tmp_path).reading
    return Side(
        "source",
        reading.curves.energies,
        reading.integrated_lufs,
        20.0,
        lambda n: np.load(tmp_path / waveform_name(n)),
    )


def _columns(before, after, first, last, count):
    return np.frombuffer(columns_bytes(before, after, first, last, count), "<f4").reshape(5, -1)


@pytest.mark.parametrize(
    ("first", "last", "count"), [(0.0, 20.0, 500), (3.0, 5.0, 200), (7.25, 7.5, 100), (19.0, 20.0, 50)]
)
def test_columns_hold_the_extremes_of_the_samples_at_every_zoom(side, first, last, count):
    signal = 0.8 * signals.programme(20, seed=6)
    rows = _columns(side, side, first, last, count)
    edges = np.round(np.linspace(first, last, count + 1) * RATE).astype(int)
    ms = 16 ** int(np.log(1000 * (last - first) / count + 1e-9) / np.log(16))  # of the bins that are drawn from
    for at in range(0, count, 7):
        start, end = edges[at], edges[at + 1]
        outer = signal[max(0, start - 48 * ms) : end + 48 * ms]
        assert outer.min() - 1e-3 <= rows[0][at] <= rows[1][at] <= outer.max() + 1e-3
        inner = signal[start + 48 * ms : end - 48 * ms]
        if len(inner):
            assert rows[0][at] <= inner.min() + 1e-3
            assert rows[1][at] >= inner.max() - 1e-3


def test_after_a_gain_and_a_limiter_columns_stay_under_the_ceiling(side):
    lowest = np.ones(2_000, np.float32)
    lowest[500:600] = 0.5
    after = Side("planned", side.energies, 0.0, 20.0, side.bins, gain_db=6.0, ceiling_db=-3.0, lowest=lowest)
    rows = _columns(side, after, 0.0, 20.0, 400)
    assert max(np.nanmax(rows[3]), -np.nanmin(rows[2])) <= 10 ** (-3 / 20) + 1e-6
    quiet = np.abs(rows[1]) * 2 < 0.5
    assert rows[3][quiet] == pytest.approx(rows[1][quiet] * 10 ** (6 / 20), abs=1e-4)
    deep = rows[4] > 6.0
    assert np.flatnonzero(deep).min() == 100
    assert np.flatnonzero(deep).max() == 119


def test_beyond_the_shorter_one_there_is_nothing(side):
    short = Side("older", side.energies[:500], -20.0, 5.0, lambda n: side.bins(n)[: 5_000 // 16**n])
    rows = _columns(short, side, 0.0, 20.0, 100)
    assert np.isnan(rows[1][30:]).all()
    assert np.isfinite(rows[3]).all()
    series = np.frombuffer(both_series_bytes(short, side), "<f4").reshape(2, -1)
    assert np.isnan(series[0][60:]).all()
    assert np.isfinite(series[1][100:]).any()


@pytest.mark.parametrize(
    ("changes", "sentences"),
    [
        (
            Changes(1.2, 1.2, 0.0, 0.8, (), None),
            ["1.2 LU louder, true peak +0.8 dB."],
        ),
        (
            Changes(-0.5, -2.0, 0.0, 0.0, ((72.0, 80.0),), None),
            [
                "0.5 LU quieter, true peak +0.0 dB; what is the same moved by −2.0 dB.",
                "Its loudness goes another way from 1:12.0 to 1:20.0.",
            ],
        ),
        (
            Changes(0.01, 0.0, 3.2, 0.0, (), 15.0),
            ["As loud as before, true peak +0.0 dB.", "3.2 s put in at about 0:15.0."],
        ),
        (
            Changes(0.0, 0.0, -61.0, 0.0, ((30.0, 43.5),), None),
            [
                "As loud as before, true peak +0.0 dB.",
                "1:01 shorter.",
                "Its loudness goes another way from 0:30.0 to 0:43.5.",
            ],
        ),
        (
            Changes(-np.inf, 0.0, 0.0, -np.inf, (), None),
            ["One of them is silent."],
        ),
    ],
)
def test_what_changed_is_said(changes, sentences):
    assert changes_words(changes) == sentences


SAME = Changes(1.0, 1.0, 0.0, 1.0, (), None)


@pytest.mark.parametrize(
    ("found", "problem", "sentences"),
    [
        (
            Differences(True, 1.0, difference_db=-120.0, usual_db=-120.0),
            None,
            [
                "What is the same moved by +1.00 dB.",
                "Nothing else is different: brought to one level, nothing is left of one without the other.",
            ],
        ),
        (
            Differences(True, 1.0, True, -71.2, -80.0),
            None,
            [
                "What is the same moved by +1.00 dB, its polarity turned over.",
                "Nothing else is different but rounding: brought to one level, what is left lies 71.2 dB under the "
                "programme.",
            ],
        ),
        (
            Differences(True, 0.0, False, -24.0, -60.0, (Band(600, 1200, 0.9, -18.0),), ((7.31, 8.2),)),
            None,
            [
                "What is the same moved by +0.00 dB.",
                "Brought to one level, what differs lies 24.0 dB under the programme, most clearly from 600 Hz to "
                "1.2 kHz.",
                "From 600 Hz to 1.2 kHz it became 0.9 dB louder.",
                "Different from 0:07.3 to 0:08.2.",
            ],
        ),
        (
            Differences(True, 0.0, False, -7.8, -8.0, (), (), (Edit(62.0, -0.9),)),
            None,
            [
                "What is the same moved by +0.00 dB.",
                "0.90 s taken out at 1:02.0.",
                "Brought to one level, what differs lies 7.8 dB under the programme.",
                "It differs throughout.",
            ],
        ),
        (
            Differences(False),
            None,
            [
                "Its loudness goes the same way from start to end; what does not move it is not told.",
                "They are not the same recording to the sample: only their loudness is told.",
            ],
        ),
        (
            None,
            "The audio is gone.",
            [
                "Its loudness goes the same way from start to end; what does not move it is not told.",
                "The audio is gone.",
            ],
        ),
    ],
)
def test_what_the_audio_says_is_said(found, problem, sentences):
    assert changes_words(SAME, found, problem)[1:] == sentences


def test_before_the_audio_was_compared_nothing_is_called_the_same():
    assert changes_words(SAME) == ["1.0 LU louder, true peak +1.0 dB."]


def test_a_blind_comparison_is_said_with_its_probability():
    assert (
        blind_words(score([True] * 3))
        == "3 of 3 right; guessing does as well 12.5 % of the time. Too few for a verdict."
    )
    assert blind_words(score([True] * 12)).startswith(
        "12 of 12 right; guessing does as well less than 0.1 % of the time"
    )
    assert blind_words(score([True] * 6 + [False] * 6)).endswith("no difference is shown to be heard.")
