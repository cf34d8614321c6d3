"""A prepared signal that was kept while it was measured is the one that would be made again, to the last bit."""

import numpy as np
import pytest

from nicelevel.core import produce
from nicelevel.core.files import take_in
from nicelevel.core.measure import Meter, measure
from nicelevel.core.prepare import Workshop, prepare, workshop
from nicelevel.core.process import process
from nicelevel.core.signals.grid import STEP
from nicelevel.core.specs import parse_spec
from nicelevel.core.stages import resample
from nicelevel.core.steps.chain import described
from nicelevel.core.steps.fold import Fold
from nicelevel.core.steps.length import Length
from nicelevel.core.steps.rate import Rate
from tests import signals

from .preparing import Times, chain_of, made

SPEC = """
spec.name = "House"
loudness = { target = -14.0, tolerance = 0.5 }
limits = { max_true_peak_dbtp = -1.0 }
method = { allow = "limiter" }
formats = [
    { container = "wav", encoding = "pcm_16", sample_rate = 44100 },
    { container = "flac", encoding = "pcm_24", sample_rate = 44100 },
]
output = { pick = "all", name = "{title}_{bits}" }
"""
RESAMPLED = (Rate(hz=44_100),)
HALF_SUM = (Fold(layout="mono"),)
CUT = (Rate(hz=96_000), Length(seconds=1.5625, fade_s=0.2))
LOTS_BYTES = 1 << 30


@pytest.mark.parametrize("subtype", ["PCM_16", "PCM_24", "FLOAT", "DOUBLE"])
@pytest.mark.parametrize("recipe", [RESAMPLED, HALF_SUM, CUT], ids=["resampled", "folded", "cut"])
def test_what_was_kept_is_what_is_made_again(tmp_path, subtype, recipe):
    path = signals.write(tmp_path / "take.wav", signals.programme(2, seed=4), subtype=subtype)
    kept = prepare(path, chain_of(path, *recipe), most_kept_bytes=LOTS_BYTES).kept
    assert np.array_equal(np.concatenate(list(kept.blocks(4_321))), made(path, *recipe))


@pytest.mark.parametrize("most_kept_bytes", [0, LOTS_BYTES], ids=["read again", "kept"])
@pytest.mark.parametrize("subtype", ["PCM_24", "FLOAT"])
@pytest.mark.parametrize("recipe", [(), RESAMPLED, HALF_SUM])
def test_hops_that_are_measured_afterwards_are_those_of_the_first_time(tmp_path, recipe, subtype, most_kept_bytes):
    """With silence in it: how deep true peaks are searched follows the highest one so far."""
    audio = np.concatenate([signals.silence(1.5), signals.programme(21, seed=4), signals.silence(0.7)])
    path = signals.write(tmp_path / "take.wav", audio, subtype=subtype)
    at_once = prepare(path, chain_of(path, *recipe), tmp_path).hops
    with Workshop(path, with_hops=True, most_kept_bytes=most_kept_bytes) as shop:
        later, again = shop.measured(recipe).hops, shop.measured(recipe).hops
        assert again is later
        shop.let_go()
        assert shop.measured(recipe).hops is later
        for name in ("sample_peaks", "true_peaks", "weighted", "low_band"):
            assert np.array_equal(getattr(later, name), getattr(at_once, name))


@pytest.mark.parametrize(("target", "action"), [("-40.0", "gain"), ("-14.0", "limit")])
def test_hops_are_measured_only_where_a_limiter_is_needed(tmp_path, monkeypatch, target, action):
    measured, whole = [], workshop.hops_of_kept

    def counted(*arguments):
        measured.append(arguments)
        return whole(*arguments)

    monkeypatch.setattr(workshop, "hops_of_kept", counted)
    spec = parse_spec(SPEC.replace("-14.0", target), "house")
    path = signals.write(tmp_path / "take.wav", signals.programme(6, seed=2))
    deliverables = process(path, spec, tmp_path / "out")
    assert [each.plan.action for each in deliverables] == [action, action]
    assert len(measured) == (action == "limit")


@pytest.mark.parametrize(("subtype", "item_bytes"), [("PCM_24", 4), ("FLOAT", 8)])
def test_nothing_is_kept_that_takes_more_room_than_there_is(tmp_path, subtype, item_bytes):
    """Whole numbers take four bytes, floating point stays 64 bits wide."""
    path = signals.write(tmp_path / "take.wav", signals.programme(1), subtype=subtype)
    resampled, needed_bytes = chain_of(path, *RESAMPLED), 44_100 * 2 * item_bytes
    assert prepare(path, resampled, most_kept_bytes=needed_bytes).kept.codes.nbytes == needed_bytes
    assert prepare(path, resampled, most_kept_bytes=needed_bytes - 1).kept is None
    with Workshop(path, with_hops=False, most_kept_bytes=LOTS_BYTES) as shop:
        assert shop.measured(()).kept is None


def test_a_step_is_less_than_any_word_can_tell(tmp_path):
    """2^-27: the error of resampled audio in steps is 24 dB under that of 24 bits rounded once (arithmetic)."""
    path = signals.write(tmp_path / "take.wav", signals.programme(2, seed=1))
    blocks = made(path, *RESAMPLED)
    assert np.array_equal(blocks / STEP, np.rint(blocks / STEP))
    with take_in(path) as audio:
        unrounded = np.concatenate(list(resample.Resampled(audio, 44_100).blocks(48_000)))
    error = blocks - unrounded
    assert np.abs(error).max() <= STEP / 2
    under_db = 10 * np.log10(np.var(error) / (2.0**-23) ** 2 * 12)
    assert under_db == pytest.approx(-24.08, abs=0.2)


def test_what_passes_the_range_of_steps_is_measured_and_kept_in_floating_point(tmp_path):
    """A sum that is 26 dB too loud has peaks 26 dB over full scale: nothing is cut off."""
    tone = signals.both(signals.sine(997, -1.0, 3))
    path = signals.write(tmp_path / "tone.wav", tone)
    loud = chain_of(path, Times(rows=((20.0, 0.0),)), *RESAMPLED)
    found = prepare(path, loud, most_kept_bytes=LOTS_BYTES)
    assert found.kept.codes.dtype == np.float64
    assert np.abs(found.kept.codes).max() == pytest.approx(20.0 * 10 ** (-1 / 20), rel=1e-3)
    assert found.reading.sample_peak_dbfs == pytest.approx(25.02, abs=0.02)


def test_a_signal_in_steps_reads_as_the_same_in_floating_point(tmp_path):
    path = signals.write(tmp_path / "take.wav", signals.programme(9, seed=3), subtype="PCM_24")
    resampled = chain_of(path, *RESAMPLED)
    found = prepare(path, resampled).reading
    blocks = made(path, *RESAMPLED)
    with take_in(path) as audio:
        meter = Meter(described(audio.source, resampled))
    meter.feed(blocks)
    expected = meter.reading()
    for name in ("integrated_lufs", "loudness_range_lu", "true_peak_dbtp", "sample_peak_dbfs", "rms_dbfs"):
        assert getattr(found, name) == pytest.approx(getattr(expected, name), abs=1e-6)
    assert (found.clipped_samples, found.bits_used) == (expected.clipped_samples, expected.bits_used)
    assert np.allclose(found.curves.energies, expected.curves.energies, rtol=1e-9)


def test_deliverables_of_one_rate_share_decoding_and_resampling(tmp_path, monkeypatch):
    """And are byte by byte what they are where there was no room to keep anything."""
    path = signals.write(tmp_path / "take.wav", signals.programme(6, seed=2))
    spec, begun = parse_spec(SPEC, "house"), []
    resampler = resample.Resampler

    def counted(*arguments):
        begun.append(arguments)
        return resampler(*arguments)

    monkeypatch.setattr(resample, "Resampler", counted)
    shared = process(path, spec, tmp_path / "shared")
    assert [each.plan.action for each in shared] == ["limit", "limit"]
    assert len(begun) == 1
    monkeypatch.setattr("nicelevel.core.process.MOST_KEPT_BYTES", 0)
    apart = process(path, spec, tmp_path / "apart")
    assert len(begun) == 1 + 1 + len(apart)
    for one, other in zip(shared, apart, strict=True):
        assert one.path.read_bytes() == other.path.read_bytes()
        assert measure(one.path).integrated_lufs == pytest.approx(-14.0, abs=0.05)


def test_memory_is_free_before_an_encoder_runs_and_the_order_stays(tmp_path, monkeypatch):
    """Lossless outputs are made first, from what was kept; the answers come as the spec names its formats."""
    path = signals.write(tmp_path / "take.wav", signals.programme(4, seed=2))
    mp3 = '{ container = "mp3", encoding = "mp3", sample_rate = 44100 },'
    text = SPEC.replace("formats = [", f"formats = [{mp3}").replace("{title}_{bits}", "{title}_{codec}_{bits}")
    rendered, render = [], produce.render

    def watched(path, plan, limited, target, progress, kept):
        rendered.append((target.suffix, kept is not None))
        return render(path, plan, limited, target, progress, kept)

    monkeypatch.setattr(produce, "render", watched)
    written = process(path, parse_spec(text, "house"), tmp_path / "out")
    assert [each.plan.output.container for each in written] == ["mp3", "wav", "flac"]
    assert rendered[:3] == [(".wav", True), (".flac", True), (".mp3", False)]
    assert all(each.proof.verdict.meets for each in written)
