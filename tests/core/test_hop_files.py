"""What is kept of every hop beside the audio: exact enough to stand for it."""

import itertools

import numpy as np
import pytest

from nicelevel.core.measure import measure
from nicelevel.core.measure.envelope import STEPS_PER_DB, Envelope, hops_of, load_envelope, loudness_blocks
from nicelevel.core.measure.gating import gating_blocks, integrated_lufs, short_term_steps
from nicelevel.core.measure.hop_files import ENVELOPE, waveform_name
from nicelevel.core.measure.loudness_range import loudness_range_lu
from nicelevel.core.measure.waveform import BINS_JOINED, FULL_SCALE, LEVELS
from tests import plain, signals

RATE = 44_100


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    """A programme of half a minute that ends inside a hop, its reading and the folder of its hops."""
    folder = tmp_path_factory.mktemp("hops")
    signal = signals.programme(30.0123, RATE, seed=12)
    path = signals.write(folder / "programme.wav", signal, RATE)
    return signal, measure(path, hops_folder=folder), folder


def _edges(frames):
    return [hop * RATE // 1000 for hop in range(hops_of(frames, RATE) + 1)]


def test_envelope_peaks_are_never_under_and_hardly_over(kept):
    signal, _, folder = kept
    envelope = load_envelope(folder / ENVELOPE)
    edges = _edges(len(signal))
    assert len(envelope.peaks) == len(edges) - 1
    coded = np.round(signal * 2**23) / 2**23
    for hop in [0, 1, 777, 12_345, len(edges) - 2]:
        truth = np.abs(coded[edges[hop] : edges[hop + 1]]).max(axis=0)
        assert (envelope.peaks[hop] >= truth * (1 - 1e-9)).all()
        assert (envelope.peaks[hop] <= truth * 10 ** (1 / STEPS_PER_DB / 20) * (1 + 1e-9)).all()


def test_envelope_energies_equal_their_plain_twin(kept):
    signal, _, folder = kept
    few = signal[: 3 * RATE]
    edges = _edges(len(few))
    for channel in range(2):
        truth = plain.k_weighted(few[:, channel], RATE)
        found = load_envelope(folder / ENVELOPE).energies[: len(edges) - 1, channel]
        exact = np.array([np.mean(truth[a:b] ** 2) for a, b in itertools.pairwise(edges)])
        loud = exact > 1e-12
        assert 10 * np.log10(found[loud] / exact[loud]) == pytest.approx(0.0, abs=1 / STEPS_PER_DB)


def test_loudness_and_range_from_the_envelope(kept):
    _, reading, folder = kept
    energies = loudness_blocks(load_envelope(folder / ENVELOPE), (1.0, 1.0), RATE)
    assert integrated_lufs(gating_blocks(energies)) == pytest.approx(reading.integrated_lufs, abs=0.001)
    assert loudness_range_lu(short_term_steps(energies)) == pytest.approx(reading.loudness_range_lu, abs=0.005)


def test_a_gain_curve_on_the_envelope_lands_where_it_lands_on_the_audio(kept):
    """A curve that moves by 9 dB within a second, linear between hops."""
    signal, _, folder = kept
    edges = np.array(_edges(len(signal)))
    curve_db = -6 + 4.5 * np.sin(2 * np.pi * 0.7 * np.arange(len(edges)) / 1000)
    ratios = 10 ** (curve_db / 20)
    gained = signal * np.interp(np.arange(len(signal)), edges, ratios)[:, None]
    envelope = load_envelope(folder / ENVELOPE)
    middle = (ratios[1:] + ratios[:-1])[:, None] / 2
    planned = Envelope(envelope.peaks * np.maximum(ratios[1:], ratios[:-1])[:, None], envelope.energies * middle**2)
    energies = loudness_blocks(planned, (1.0, 1.0), RATE)
    truth = measure(signals.write(folder / "gained.wav", gained, RATE))
    assert integrated_lufs(gating_blocks(energies)) == pytest.approx(truth.integrated_lufs, abs=0.01)
    assert loudness_range_lu(short_term_steps(energies)) == pytest.approx(truth.loudness_range_lu, abs=0.05)
    highest_db = 20 * np.log10(planned.peaks.max())
    assert 0 <= highest_db - truth.sample_peak_dbfs <= 0.05


def test_drawn_waveform_holds_every_extreme_at_every_level(kept):
    signal, _, folder = kept
    for level in range(LEVELS):
        bins = np.load(folder / waveform_name(level)) / FULL_SCALE
        hop_frames = BINS_JOINED**level * RATE / 1000
        assert len(bins) == -(-hops_of(len(signal), RATE) // BINS_JOINED**level)
        for number in [0, len(bins) // 2, len(bins) - 1]:
            first, last = int(number * hop_frames) + 1, int((number + 1) * hop_frames) - 1
            part = signal[first:last]
            if len(part):
                assert (bins[number, :, 0] <= part.min(axis=0) + 1e-6).all()
                assert (bins[number, :, 1] >= part.max(axis=0) - 1e-6).all()
        assert bins[:, :, 1].max() == pytest.approx(signal.max(), abs=2 / FULL_SCALE)


def test_silence_is_kept_as_nothing(tmp_path):
    measure(signals.write(tmp_path / "silence.wav", signals.silence(1.5)), hops_folder=tmp_path)
    envelope = load_envelope(tmp_path / ENVELOPE)
    assert envelope.peaks.shape == (1500, 2)
    assert not envelope.peaks.any()
    assert not envelope.energies.any()
