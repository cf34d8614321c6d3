"""What is heard: equal to what is written, at one loudness, for two loudspeakers."""

import math
import subprocess

import numpy as np
import pytest
import soundfile

from nicelevel.core.channels import layout_from_count
from nicelevel.core.errors import UnsupportedError
from nicelevel.core.files import take_in
from nicelevel.core.hear import (
    DifferenceOf,
    FileProgramme,
    HeardLevel,
    NoiseOf,
    PlanProgramme,
    heard_lufs,
    heard_piece,
    joins_of,
    matched_gains_db,
    real_gains_db,
    score,
    stops_of,
)
from nicelevel.core.measure import measure
from nicelevel.core.plan import plan
from nicelevel.core.plan.limit import limited_by
from nicelevel.core.prepare import Workshop
from nicelevel.core.render import render
from nicelevel.core.specs import parse_spec
from nicelevel.core.values import Note
from tests import signals
from tests.core.measuring import meter_signal

FORMATS = {
    "16 bit, dithered": 'container = "wav"\nencoding = "pcm_16"\nsample_rate = 44100\ndither = "tpdf"',
    "24 bit, kept rate": 'container = "wav"\nencoding = "pcm_24"',
    "one channel": 'container = "wav"\nencoding = "pcm_16"\nchannels = "mono"\nsample_rate = 16000\ndither = "tpdf"',
}
LOSSY = {
    "mp3": 'container = "mp3"\nencoding = "mp3"\nbitrate_kbps = 192',
    "aac": 'container = "m4a"\nencoding = "aac"\nbitrate_kbps = 192',
    "opus": 'container = "ogg"\nencoding = "opus"\nbitrate_kbps = 128\nsample_rate = 48000',
    "vorbis": 'container = "ogg"\nencoding = "vorbis"\nbitrate_kbps = 192',
}


def _spec(output, target=-14.0):
    return parse_spec(
        f'[spec]\nname = "House"\n[loudness]\ntarget = {target}\ntolerance = 0.5\n[limits]\n'
        f'max_true_peak_dbtp = -1.0\n[method]\nallow = "limiter"\n[[formats]]\n{output}\n',
        "house",
    )


def _planned(path, spec):
    with Workshop(path, with_hops=True) as workshop:
        found = plan(workshop.source(), workshop.measured, spec)
        return found, limited_by(workshop.measured(found.chain.recipe), found)


@pytest.fixture
def take(tmp_path):
    return signals.write(tmp_path / "take.wav", signals.programme(9, seed=2))


@pytest.mark.parametrize("name", FORMATS)
def test_a_plan_heard_is_the_rendered_file_sample_for_sample(tmp_path, take, name):
    """Rounded as it would be, and in pieces of any length; before the rounding it is nearer than half a step."""
    found, limited = _planned(take, _spec(FORMATS[name]))
    staged = render(take, found, limited, tmp_path / "out.wav")
    with take_in(staged.path) as written, take_in(take) as audio:
        rounded = PlanProgramme(audio, found, limited, "rounded")
        exact = PlanProgramme(audio, found, limited)
        assert (rounded.shape.rate_hz, rounded.shape.frames) == (written.source.sample_rate_hz, written.source.frames)
        for first, last in ((0, 10_000), (70_001, 90_123), (rounded.shape.frames - 500, rounded.shape.frames)):
            there = written.window(first, last)
            assert np.array_equal(rounded.window(first, last), there)
            step = 2.0 ** (1 - found.output.bits)
            assert np.abs(exact.window(first, last) - there).max() < (1.5 + 1e-6 if found.dithers else 0.51) * step


@pytest.mark.parametrize("name", LOSSY)
def test_a_plan_is_heard_through_its_encoder(tmp_path, take, name):
    """Runs that begin in the middle differ from the whole only as two encodings of the same seconds do."""
    found, limited = _planned(take, _spec(LOSSY[name]))
    staged = render(take, found, limited, tmp_path / f"out.{found.output.container}")
    with take_in(staged.path) as written:
        whole = np.concatenate(list(written.blocks(1 << 16)))
    with take_in(take) as audio:
        coded, exact = PlanProgramme(audio, found, limited, "coded"), PlanProgramme(audio, found, limited)
        first, last = round(3.5 * coded.shape.rate_hz), round(5.5 * coded.shape.rate_hz)  # over the seam of two runs
        heard, plain_sound = coded.window(first, last), exact.window(first, last)
    there = whole[first:last].astype(np.float64)
    lost, strange = (np.sqrt(np.mean((each - plain_sound) ** 2)) for each in (there, heard))
    assert strange > 0.0, "something of the encoder is heard"
    assert strange == pytest.approx(lost, rel=0.2)
    assert np.abs(np.diff(heard, axis=0)).max() <= 1.5 * np.abs(np.diff(there, axis=0)).max(), "no step at the seam"


def test_heard_at_another_rate_a_programme_keeps_its_place_and_length(tmp_path):
    path = signals.write(tmp_path / "take.wav", signals.both(signals.sine(997, -6, 3, 96_000)), 96_000)
    with take_in(path) as audio:
        programme = FileProgramme(audio)
        piece = heard_piece(programme, 48_000, 48_000, 96_000)
        beyond = heard_piece(programme, 48_000, 130_000, 150_000)
    expected = signals.both(signals.sine(997, -6, 3))[48_000:96_000]
    assert np.abs(piece - expected).max() < 1e-6
    assert beyond.shape == (20_000, 2)
    assert np.array_equal(beyond[14_000:], np.zeros((6_000, 2))), "silence after the end"


def test_two_loudspeakers_get_one_channel_both_and_surround_folded_down(tmp_path):
    """BS.775-4: Lo = L + 0.7071 C + 0.7071 Ls, without LFE."""
    one = signals.write(tmp_path / "one.wav", signals.sine(500, -12, 1))
    parts = np.full((48_000, 6), 0.0)
    parts[:] = (0.1, 0.2, 0.3, 0.9, 0.04, 0.05)
    six = signals.write(tmp_path / "six.wav", parts, subtype="DOUBLE")
    with take_in(one) as audio:
        heard = heard_piece(FileProgramme(audio), 48_000, 0, 100)
        assert np.array_equal(heard[:, 0], heard[:, 1])
    with take_in(six) as audio:
        heard = heard_piece(FileProgramme(audio), 48_000, 0, 100)
    share = math.sqrt(0.5)
    assert heard[50] == pytest.approx([0.1 + share * (0.3 + 0.04), 0.2 + share * (0.3 + 0.05)])


@pytest.mark.parametrize("suffix", ["m4a", "alac.m4a"])
def test_a_file_in_packets_can_be_heard_from_anywhere(tmp_path, take, suffix):
    """A window is what the whole has there: the decoder's first frames, which are not whole, are thrown away.

    Without noise substitution, for which a decoder draws random numbers.
    """

    path = tmp_path / f"take.{suffix}"
    codec = ["alac"] if "alac" in suffix else ["aac", "-b:a", "192k", "-aac_pns", "0"]
    subprocess.run(["ffmpeg", "-loglevel", "error", "-i", take, "-c:a", *codec, path], check=True)
    with take_in(path) as audio:
        whole = np.concatenate(list(audio.blocks(1 << 16)))
    with take_in(path) as audio:
        for first in (0, 1, 100_000, 37_777, len(whole) - 3_000, 250_000):
            last = min(len(whole), first + 9_000)
            assert np.abs(audio.window(first, last) - whole[first:last]).max() < 1e-6, first


def test_what_can_only_be_read_from_its_start_says_so(tmp_path, take):
    path = tmp_path / "take.ac3"
    subprocess.run(["ffmpeg", "-loglevel", "error", "-i", take, path], check=True)
    with take_in(path) as audio, pytest.raises(UnsupportedError, match="from its start"):
        FileProgramme(audio).window(0, 100)


def test_matched_everything_has_the_loudness_of_the_source():
    levels = [HeardLevel(-20.0, -3.0), HeardLevel(-14.0, -1.0), HeardLevel(-23.0, -6.0)]
    gains = matched_gains_db(levels)
    assert [level.lufs + gain for level, gain in zip(levels, gains, strict=True)] == pytest.approx([-20.0] * 3)


def test_matching_raises_no_peak_over_the_sources_own_or_full_scale():
    """A quiet take with high peaks brings all down; a source over full scale is no leave to clip."""
    for levels in (
        [HeardLevel(-20.0, -3.0), HeardLevel(-30.0, -5.0)],
        [HeardLevel(-12.0, +0.8), HeardLevel(-20.0, -1.0)],
    ):
        gains = matched_gains_db(levels)
        loudness = [level.lufs + gain for level, gain in zip(levels, gains, strict=True)]
        assert loudness == pytest.approx([loudness[0]] * 2)
        most = min(0.0, levels[0].true_peak_dbtp)
        assert max(level.true_peak_dbtp + gain for level, gain in zip(levels, gains, strict=True)) <= most + 1e-9


def test_real_levels_keep_their_differences_and_are_never_louder_than_the_source():
    levels = [
        HeardLevel(-20.0, -3.0),
        HeardLevel(-14.0, -1.0),
        HeardLevel(-23.0, -6.0),
        HeardLevel(-math.inf, -math.inf),
    ]
    gains = real_gains_db(levels)
    assert len(set(gains)) == 1
    assert gains[0] == pytest.approx(-6.0)
    assert real_gains_db([HeardLevel(-14.0, -1.0), HeardLevel(-20.0, -3.0)]) == [0.0, 0.0]


def test_silence_is_left_as_it_is():
    gains = matched_gains_db([HeardLevel(-math.inf, -math.inf), HeardLevel(-14.0, -1.0)])
    assert gains == [0.0, 0.0]


def test_one_channel_heard_by_both_loudspeakers_is_as_loud_as_two_equal_ones():
    """Two equal channels read 3.01 LU more than one of them (BS.1770-5): so −19 there is −16 here."""
    one = meter_signal(signals.programme(5, channels=1, seed=3))
    two = meter_signal(np.repeat(signals.programme(5, channels=1, seed=3), 2, axis=1))
    heard = heard_lufs(one.integrated_lufs, layout_from_count(1))
    assert heard == pytest.approx(heard_lufs(two.integrated_lufs, layout_from_count(2)), abs=1e-6)


def test_what_is_left_over_is_what_the_limiter_took(tmp_path, take):
    """The difference of plan and source, matched, is nothing where the limiter rests and something where it works."""
    found, limited = _planned(take, _spec('container = "wav"\nencoding = "pcm_24"', -10.5))
    assert found.action == "limit"
    start_s, end_s = max(found.limiting.places, key=lambda place: place[1] - place[0])
    with take_in(take) as audio, take_in(take) as again:
        left = DifferenceOf(PlanProgramme(audio, found, limited), FileProgramme(again), -found.gain_db, 0.0)
        working = left.window(round(start_s * 48_000), round(end_s * 48_000))
        lowest = limited.lowest
        still = int(np.flatnonzero(np.convolve(lowest < 1.0, np.ones(20), "valid") == 0)[0]) * 480
        resting = left.window(still, still + 20 * 480)
    assert np.abs(working).max() > 1e-3
    assert np.abs(resting).max() < 1e-12


def test_what_a_fold_down_cancels_is_heard(tmp_path):
    """Half of both sides: what is left of the left channel is half the difference of the two, inverted."""
    sides = signals.noise(2, channels=2, seed=5)
    path = signals.write(tmp_path / "take.wav", sides, subtype="DOUBLE")
    found, limited = _planned(path, _spec(FORMATS["one channel"].replace("16000", "48000"), -30.0))
    with take_in(path) as audio, take_in(path) as again:
        left = DifferenceOf(PlanProgramme(audio, found, limited), FileProgramme(again), -found.gain_db, 0.0)
        heard = left.window(100, 40_000)
    expected = (sides[:, ::-1] - sides)[100:40_000] / 2
    assert np.abs(heard - expected).max() < 1e-9


@pytest.mark.parametrize(("kind", "steps"), [("none", 1 / 12), ("tpdf", 1 / 4)])
def test_rounding_noise_is_that_of_its_kind(tmp_path, kind, steps):
    """Variance in steps squared: 1/12 rounded, 1/4 with TPDF (Lipshitz, Wanamaker and Vanderkooy, JAES 40, 1992)."""
    path = signals.write(tmp_path / "take.wav", signals.programme(10, seed=1))
    found, limited = _planned(path, _spec('container = "wav"\nencoding = "pcm_24"', -16.0))
    with take_in(path) as audio:
        noise = NoiseOf(PlanProgramme(audio, found, limited), found.output, kind, 1)
        heard = noise.window(48_000, 96_000) * 2**15
    assert np.var(heard) == pytest.approx(steps, rel=0.03)


def test_at_the_end_of_a_fade_rounding_alone_is_heard_as_distortion(tmp_path):
    """With dither what is left does not follow the signal; rounded, a tone under half a step is the error itself."""
    path = signals.write(tmp_path / "take.wav", signals.both(signals.sine(440, -20, 10)))
    found, limited = _planned(path, _spec('container = "wav"\nencoding = "pcm_24"', -20.0))
    likeness = {}
    with take_in(path) as audio:
        exact = PlanProgramme(audio, found, limited)
        for kind in ("none", "tpdf", "shaped"):
            noise = NoiseOf(exact, found.output, kind, 1)
            first, last = 480_000 - 1_500, 480_000
            faded = exact.window(first, last) * noise._fade(first, last)[:, None]
            likeness[kind] = abs(np.corrcoef(noise.window(first, last)[:, 0], faded[:, 0])[0, 1])
    assert likeness["none"] > 0.7
    assert max(likeness["tpdf"], likeness["shaped"]) < 0.2


def test_stops_are_where_the_limiter_works_deepest_the_extremes_and_the_notes():
    energies = np.full(6_000, 1e-4)
    energies[1_000:1_300], energies[3_000:3_300], energies[5_000:] = 1e-2, 1e-5, 1e-12
    reductions = np.zeros(6_000)
    reductions[2_000], reductions[2_010], reductions[4_000] = 3.0, 2.9, 1.0
    stops = stops_of(energies, [Note("clipped", "It clips.", ((7.0, 7.1),))], reductions)
    assert [(each.kind, round(each.at_s, 2)) for each in stops] == [
        ("clipped", 7.0),
        ("loudest", 10.0),
        ("limited", 20.0),
        ("quietest", 30.0),
        ("limited", 40.0),
    ]
    assert stops[2].amount == 3.0


def test_silence_has_no_stops():
    assert stops_of(np.zeros(1_000), ()) == ()


def test_joins_go_from_the_last_three_seconds_into_the_first():
    first, second = joins_of([10.0, 2.0, 60.0])
    assert (first.from_s, first.into_s) == ((7.0, 10.0), (0.0, 2.0))
    assert (second.number, second.from_s, second.into_s) == (1, (0.0, 2.0), (0.0, 3.0))


@pytest.mark.parametrize(
    ("trials", "right", "probability"),
    [(10, 9, 11 / 1024), (10, 8, 56 / 1024), (16, 12, 2517 / 65536), (12, 6, 2510 / 4096)],
)
def test_the_probability_of_a_blind_test_is_the_binomial_one(trials, right, probability):
    """Tables of the binomial distribution, upper tail at one half; also against SciPy."""
    from scipy.stats import binom

    found = score([True] * right + [False] * (trials - right))
    assert found.probability == pytest.approx(probability)
    assert found.probability == pytest.approx(binom.sf(right - 1, trials, 0.5))


def test_a_verdict_takes_ten_trials_and_one_in_twenty():
    assert not score([True] * 9).is_enough
    assert score([True] * 9 + [False]).is_heard
    assert not score([True] * 8 + [False] * 2).is_heard  # 0.0547


def test_a_deliverable_matched_in_the_player_is_as_loud_as_its_source(tmp_path, take):
    """Measured again after the gains of the player: within 0.1 LU."""
    found, limited = _planned(take, _spec(FORMATS["16 bit, dithered"]))
    staged = render(take, found, limited, tmp_path / "out.wav")
    readings = [measure(take), measure(staged.path)]
    levels = [
        HeardLevel(heard_lufs(each.integrated_lufs, each.source.layout), each.true_peak_dbtp) for each in readings
    ]
    gains = matched_gains_db(levels)
    for path, gain in zip((take, staged.path), gains, strict=True):
        samples, rate = soundfile.read(path)
        assert meter_signal(samples * 10 ** (gain / 20), rate).integrated_lufs == pytest.approx(
            levels[0].lufs, abs=0.1
        )
