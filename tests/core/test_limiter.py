"""The limiter: never over its ceiling, clean on steady tones, out of the way between peaks, as its plan says."""

import numpy as np
import pytest

from nicelevel.core.measure.envelope import LOWEST_DB, STEPS_PER_DB
from nicelevel.core.measure.gating import integrated_lufs
from nicelevel.core.measure.hop_files import open_hops
from nicelevel.core.plan import plan
from nicelevel.core.plan.gain_curve import (
    BLOCK_HOPS,
    HOLD_HOPS,
    ROW_NODES,
    SPLINE_HOPS,
    allowed_ratios,
    hann,
    steps_back,
)
from nicelevel.core.plan.limiter import Envelope
from nicelevel.core.plan.price import prices
from nicelevel.core.prepare import prepare
from nicelevel.core.render.limiting import limit_block
from nicelevel.core.specs import parse_spec
from nicelevel.core.values import Limiter
from tests import plain, signals

from .measuring import meter_signal

RATE = 48_000


def _envelope(tmp_path, signal, rate=RATE, kind="true_peak"):
    path = signals.write(tmp_path / "source.wav", signal, rate, "DOUBLE")
    prepared = prepare(path, hops_folder=tmp_path)
    return Envelope(prepared.hops, prepared.reading, kind)


def _limited(tmp_path, signal, gain_db, limiter, rate=RATE):
    """What is planned, and the audio after gain and limiter."""
    planned = _envelope(tmp_path, signal, rate, limiter.kind).limited(gain_db, limiter)
    audio = signal * 10 ** (gain_db / 20)
    limit_block(audio, 0, rate, planned.left.curve)
    return planned, audio


def _nodes(limited):
    """Every node of a curve, also where it is not kept because it is 1."""
    curve = limited.left.curve
    nodes = np.ones(len(curve.row_of) * BLOCK_HOPS + SPLINE_HOPS, np.float32)
    for block in np.flatnonzero(curve.row_of >= 0):
        nodes[block * BLOCK_HOPS :][:ROW_NODES] = curve.rows[curve.row_of[block]]
    return nodes


@pytest.mark.parametrize("level_db", [6.0, 12.0])
def test_a_steady_sine_over_the_ceiling_settles_to_a_clean_one(tmp_path, level_db):
    """THD of 997 Hz, 6 dB over the ceiling, is under -80 dB once it is steady."""
    signal = signals.both(signals.sine(997, -7.0, 4))
    planned, audio = _limited(tmp_path, signal, level_db + 6.0, Limiter(-1.0))
    steady = audio[2 * RATE : 3 * RATE, 0] * np.blackman(RATE)
    powers = np.abs(np.fft.rfft(steady)) ** 2
    tone = powers[997 - 5 : 997 + 6].sum()
    harmonics = sum(powers[n * 997 - 5 : n * 997 + 6].sum() for n in range(2, 24))
    assert 10 * np.log10(harmonics / tone) < -80
    assert planned.depth_db == pytest.approx(level_db, abs=0.01)
    assert 20 * np.log10(np.abs(audio).max()) == pytest.approx(-1.0, abs=0.01)


@pytest.mark.parametrize("hz", [40, 50, 63, 100, 250])
def test_low_tones_are_not_bent(tmp_path, hz):
    """The hold is longer than what lies between two peaks: gain does not move within the period."""
    signal = signals.both(signals.sine(hz, -7.0, 4))
    planned, _ = _limited(tmp_path, signal, 12.0, Limiter(-1.0))
    steady = _nodes(planned)[2000:3000]
    assert 20 * np.log10(steady.max() / steady.min()) < 0.05


@pytest.mark.parametrize("rate", [16_000, 44_100, 48_000, 96_000])
@pytest.mark.parametrize("soft_db", [0.0, 4.0])
def test_nothing_passes_the_ceiling(tmp_path, rate, soft_db):
    signal = signals.band_limited(signals.programme(6, rate, seed=rate), rate)
    peak_db = 20 * np.log10(np.abs(signal).max())
    planned, audio = _limited(tmp_path, signal, 5.0 - peak_db, Limiter(-1.0, soft_db=soft_db), rate)
    truth = max(plain.band_limited_peak(audio[:, channel]) for channel in range(2))
    assert 20 * np.log10(truth) <= -1.0 + 0.02
    assert 20 * np.log10(planned.true_peak) == pytest.approx(20 * np.log10(truth), abs=0.1)
    assert np.abs(audio).max() <= planned.sample_peak * (1 + 1e-6)


def test_nodes_equal_those_of_the_plain_way(tmp_path):
    """Hop by hop in plain Python: windows, the way back, smoothing."""
    signal = signals.programme(5, seed=2)
    envelope, limiter = _envelope(tmp_path, signal), Limiter(-6.0, look_ahead_ms=4, release_ms=50.0)
    gain_db = -envelope.highest_db
    codes = open_hops(tmp_path).true_peaks.astype(int)
    lowest, allowed = allowed_ratios(limiter.ceiling_db - gain_db, 0.0, codes.max())
    # The tenth root of a step of ten hops: single precision rounds that of one hop ten times as much.
    steps = steps_back(50.0)[:, -1].astype(float) ** 0.1
    expected = plain.limiter_nodes(codes, lowest, allowed, hann(4), steps, HOLD_HOPS, SPLINE_HOPS)
    found = _nodes(envelope.limited(gain_db, limiter))
    assert found.min() < 0.9
    assert found[: len(expected)] == pytest.approx(expected, abs=1e-6)


@pytest.mark.parametrize("channels", [1, 2, 3, 6])
def test_what_a_curve_leaves_of_energies_equals_that_of_the_limited_audio(tmp_path, channels):
    """Integrated loudness within 0.02 LU where half of all blocks are touched; the LFE counts nothing."""
    signal = np.concatenate([signals.programme(20, seed=seed) for seed in (6, 7, 8)], axis=1)[:, :channels]
    peak_db = 20 * np.log10(np.abs(signal).max())
    planned, audio = _limited(tmp_path, signal, 8.0 - peak_db, Limiter(-1.0))
    assert 0.0 < planned.share_ratio < 1.0
    measured = meter_signal(audio, RATE)
    assert integrated_lufs(planned.left.blocks) == pytest.approx(measured.integrated_lufs, abs=0.02)
    assert planned.sample_peak == pytest.approx(np.abs(audio).max(), rel=0.02)


@pytest.mark.parametrize("channels", [1, 3])
def test_a_silent_channel_more_changes_nothing(tmp_path, channels):
    """Channels are computed in pairs: the last of an odd number goes with none."""
    signal = np.concatenate([signals.drums(6, seed=seed) for seed in (6, 7)], axis=1)[:, :channels]
    left = []
    for name, columns in (("odd", signal), ("even", np.pad(signal, ((0, 0), (0, 1))))):
        (tmp_path / name).mkdir()
        left.append(_envelope(tmp_path / name, columns).left(12.0, Limiter(-1.0)))
    assert left[0].energies == pytest.approx(left[1].energies, rel=1e-9)
    # Squares are means over channels.
    assert channels * left[0].squares == pytest.approx((channels + 1) * left[1].squares, rel=1e-9)


def test_only_blocks_that_are_limited_are_kept(tmp_path):
    planned, _ = _limited(tmp_path, signals.programme(20, seed=6), 8.0, Limiter(-1.0))
    rows = planned.left.curve.rows
    assert 0 < len(rows) < len(planned.left.curve.row_of)
    assert (rows.min(axis=1) < 1.0).all()
    assert planned.depth_db == pytest.approx(-20 * np.log10(rows.min()), abs=1e-6)
    assert planned.share_ratio == pytest.approx(np.mean(_mean_of_hops(_nodes(planned)) < 1.0), abs=1e-3)


def _mean_of_hops(nodes):
    return np.convolve(nodes, np.ones(SPLINE_HOPS + 1) / (SPLINE_HOPS + 1), "valid")


@pytest.mark.parametrize("signal", [signals.programme(30, seed=6), signals.drums(12.0, seed=2)], ids=["mix", "drums"])
def test_what_is_left_goes_on_in_a_line_to_gains_that_are_near(tmp_path, signal):
    """Within 0.005 LU after a step of 0.05 dB, and the same curve."""
    envelope, limiter = _envelope(tmp_path, signal), Limiter(-1.0)
    gain_db = 4.0 - envelope.highest_db
    before, last, truth = (envelope.left(gain_db + more_db, limiter) for more_db in (0.0, 0.3, 0.35))
    found = envelope.left_in_line(gain_db + 0.35, limiter, before, last)
    assert integrated_lufs(found.blocks) == pytest.approx(integrated_lufs(truth.blocks), abs=0.005)
    assert found.squares.sum() == pytest.approx(truth.squares.sum(), rel=1e-3)
    assert (found.energies >= 0.0).all()
    assert not found.is_computed
    assert np.array_equal(found.curve.rows, truth.curve.rows)


@pytest.mark.parametrize(("deep_db", "off_lu"), [(0.5, 0.05), (2.0, 0.3), (5.0, 2.0)])
def test_the_gain_told_from_blocks_is_near_the_one_that_is_found(tmp_path, deep_db, off_lu):
    signal = signals.programme(20, seed=6)
    envelope = _envelope(tmp_path, signal)
    unlimited_db = -1.0 + deep_db - envelope.highest_db
    guess_db = envelope.about_gain_db(unlimited_db, -1.0)
    before = meter_signal(signal, RATE).integrated_lufs
    left = envelope.left(guess_db, Limiter(-1.0))
    assert guess_db >= unlimited_db
    assert integrated_lufs(left.blocks) == pytest.approx(before + unlimited_db, abs=off_lu)


def test_between_drum_hits_gain_does_not_move(tmp_path):
    """6 dB of limiting on drums leaves the longest still stretch at 90 % of what needs no limiting, or more."""
    signal = signals.drums(8.0)
    envelope = _envelope(tmp_path, signal)
    gain_db = 6.0 - 1.0 - envelope.highest_db
    planned = envelope.limited(gain_db, Limiter(-1.0))
    needs = open_hops(tmp_path).true_peaks / STEPS_PER_DB + LOWEST_DB + gain_db > -1.0
    assert planned.depth_db == pytest.approx(6.0, abs=0.01)
    assert _longest(_nodes(planned) == 1.0) >= 0.9 * _longest(~needs)


def _longest(still):
    edges = np.flatnonzero(np.diff(np.concatenate(([0], still.astype(int), [0]))))
    return (edges[1::2] - edges[::2]).max()


def test_gain_comes_back_slowly_where_peaks_are_dense(tmp_path):
    """The same last peak: alone, and after a second of others."""
    alone, dense = 0.05 * signals.both(signals.sine(1000, 0, 3)), 0.05 * signals.both(signals.sine(1000, 0, 3))
    burst = signals.both(signals.sine(1000, 0, 0.02))
    for start_s in np.arange(0.5, 1.5, 0.025):
        dense[round(start_s * RATE) : round(start_s * RATE) + len(burst)] = burst
    alone[round(1.475 * RATE) : round(1.475 * RATE) + len(burst)] = burst
    (tmp_path / "a").mkdir()
    (tmp_path / "b").mkdir()
    back = [
        np.flatnonzero(_nodes(_envelope(tmp_path / name, signal).limited(0.0, Limiter(-6.0)))[1500:] == 1.0)[0]
        for name, signal in (("a", alone), ("b", dense))
    ]
    assert back[0] < 80
    assert back[1] > 3 * back[0]


def test_where_nothing_passes_the_ceiling_no_sample_changes(tmp_path):
    signal = signals.programme(3, seed=1)
    planned, audio = _limited(tmp_path, signal, -6.0, Limiter(-1.0))
    assert (_nodes(planned) == 1.0).all()
    assert (planned.depth_db, planned.share_ratio, planned.places()) == (0.0, 0.0, ())
    assert np.array_equal(audio, signal * 10 ** (-6 / 20))


def test_both_channels_get_the_same_gain(tmp_path):
    signal = signals.noise(2, -30, seed=4)
    signal[RATE, 0] = 0.9
    _, audio = _limited(tmp_path, signal, 6.0, Limiter(-1.0))
    ratio = audio[RATE - 100 : RATE + 100] / signal[RATE - 100 : RATE + 100]
    assert ratio[:, 0] == pytest.approx(ratio[:, 1], rel=1e-12)
    assert ratio.min() < 1.5


def test_block_borders_change_no_sample(tmp_path):
    signal = signals.programme(3, 44_100, seed=8)
    planned = _envelope(tmp_path, signal, 44_100).limited(8.0, Limiter(-3.0))
    whole, parts = signal.copy(), signal.copy()
    limit_block(whole, 0, 44_100, planned.left.curve)
    for first in range(0, len(parts), 1_001):
        limit_block(parts[first : first + 1_001], first, 44_100, planned.left.curve)
    assert np.array_equal(whole, parts)


def test_a_peak_on_the_very_first_and_last_sample_is_held(tmp_path):
    signal = np.zeros((RATE // 2 + 17, 2))
    signal[0], signal[-1] = 0.9, -0.9
    planned, audio = _limited(tmp_path, signal, 0.0, Limiter(-6.0, "sample_peak"))
    assert np.abs(audio).max() <= 10 ** (-6 / 20) * (1 + 1e-6)
    assert planned.depth_db == pytest.approx(20 * np.log10(0.9) + 6.0, abs=0.01)


def test_a_soft_knee_rounds_what_is_under_the_ceiling_too():
    """At the ceiling an eighth of the knee, half a knee over it no more than a hard one (arithmetic)."""
    top = round((20.0 - LOWEST_DB) * STEPS_PER_DB)
    lowest, soft = allowed_ratios(-1.0, 4.0, top)
    codes = [round((level_db - LOWEST_DB) * STEPS_PER_DB) - lowest for level_db in (-3.0, -1.0, 1.0, 5.0)]
    assert 20 * np.log10(soft[codes]) == pytest.approx([0.0, -0.5, -2.0, -6.0], abs=0.01)


def test_the_price_of_loudness_begins_without_limiting_and_agrees_with_the_plan(tmp_path):
    path = signals.write(tmp_path / "source.wav", signals.drums(8.0), subtype="DOUBLE")
    prepared = prepare(path, hops_folder=tmp_path)
    text = (
        '[spec]\nname = "x"\n[loudness]\ntarget = -20.6\ntolerance = 0.2\n[limits]\nmax_true_peak_dbtp = -1.0\n'
        '[method]\nallow = "limiter"\n[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\n'
    )
    spec = parse_spec(text, "x")
    found = plan(prepared.reading.source, lambda _: prepared, spec)
    points = prices(prepared, spec, found.output)
    assert points[0].depth_db == pytest.approx(0.0, abs=0.01)
    room_db = found.limiting.limiter.ceiling_db - prepared.reading.true_peak_dbtp
    assert points[0].level == pytest.approx(prepared.reading.integrated_lufs + room_db, abs=0.02)
    below = int(found.limiting_db)
    assert points[below].level < found.predicted.integrated_lufs < points[below + 1].level
    assert [each.share_ratio for each in points] == sorted(each.share_ratio for each in points)


@pytest.mark.parametrize("length_s", [1.0, 3.0])
def test_another_signals_curve_may_be_longer_or_shorter(tmp_path, length_s):
    """A member of a set that is not as long as its leader: nothing is read outside, nothing limited after the end."""
    leaders = _envelope(tmp_path, signals.both(signals.sine(997, -3.0, 2)))
    curve = leaders.left(6.0, Limiter(-1.0)).curve
    signal = signals.both(signals.sine(500, -7.0, length_s))
    (tmp_path / "member").mkdir()
    member = _envelope(tmp_path / "member", signal)
    planned = member.finished(member.left_by(curve, 6.0))
    audio = signal * 10 ** (6.0 / 20)
    limit_block(audio, 0, RATE, curve)
    assert np.abs(audio[: RATE // 2]).max() < 0.6
    assert np.abs(audio[-100:]).max() == pytest.approx(0.55 if length_s < 2 else 0.89, abs=0.06)
    assert planned.sample_peak == pytest.approx(np.abs(audio).max(), rel=0.02)
    assert np.isfinite(planned.left.energies).all()
