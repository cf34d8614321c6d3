"""Steps against slow, plain twins written apart, with scipy and numpy; the formulas are the recipe's grammar."""

import numpy as np
import pytest
from scipy import signal as dsp

from nicelevel.core.errors import EmptyError, UnsupportedError
from nicelevel.core.steps import recipe_from_json
from tests import signals

from .preparing import chain_of, made

RATE_HZ = 48_000


def _step(do, **keys):
    return recipe_from_json([{"do": do, **keys}])[0]


def _write(tmp_path, sound, rate_hz=RATE_HZ):
    return signals.write(tmp_path / "take.wav", sound, rate_hz, "DOUBLE")


@pytest.mark.parametrize("order", range(1, 9))
@pytest.mark.parametrize(("hz", "rate_hz"), [(80.0, 48_000), (20.0, 96_000), (3_000.0, 8_000), (5_000.0, 44_100)])
def test_a_high_pass_is_a_butterworth_from_rest(tmp_path, order, hz, rate_hz):
    sound = signals.noise(0.4, seed=order, rate=rate_hz)
    twin = dsp.sosfilt(dsp.butter(order, hz, "highpass", fs=rate_hz, output="sos"), sound, axis=0)
    found = made(_write(tmp_path, sound, rate_hz), _step("high_pass", hz=hz, order=order))
    assert np.abs(found - twin).max() < 1e-11


def test_a_high_pass_is_3_db_down_at_its_frequency_and_12_an_octave_below(tmp_path):
    """The definition of a Butterworth filter; the slope by the handbook, far below the corner."""
    found = []
    for hz in (400.0, 50.0, 25.0):
        path = _write(tmp_path, signals.sine(hz, -6.0, 3.0))
        tail = made(path, _step("high_pass", hz=400.0))[RATE_HZ:]
        found.append(20 * np.log10(np.abs(tail).max() / signals.ratio(-6.0)))
    assert found[0] == pytest.approx(-3.01, abs=0.02)
    assert found[1] - found[2] == pytest.approx(12.04, abs=0.05)


def test_nothing_is_above_half_the_rate(tmp_path):
    with pytest.raises(UnsupportedError, match="above 24000 Hz"):
        chain_of(_write(tmp_path, signals.noise(0.1)), _step("high_pass", hz=24_000.0))


def test_dc_is_the_mean_of_each_channel(tmp_path):
    sound = signals.programme(1.0) + np.array([0.02, -0.003])
    found = made(_write(tmp_path, sound), _step("dc"))
    assert np.abs(found - (sound - sound.mean(axis=0))).max() < 1e-15
    assert np.abs(found.mean(axis=0)).max() < 1e-15


def _level(sound, rate_hz):
    """RMS of 10 ms about each frame, the loudest channel; a convolution of the squares."""
    window = round(0.01 * rate_hz)
    squares = np.array([np.convolve(column**2, np.ones(window), "full") for column in sound.T]).max(axis=0)
    first = window - 1 - window // 2
    return 10 * np.log10(np.maximum(squares[first : first + len(sound)] / window, 1e-20))


def _bursts(seed=3, rate_hz=RATE_HZ):
    sound = signals.noise(3.0, level_db=-50.0, seed=seed, rate=rate_hz)
    for start, length, level_db in ((0.5, 0.4, -12.0), (1.3, 0.05, -20.0), (1.5, 0.3, -30.0), (2.4, 0.6, -6.0)):
        part = slice(round(start * rate_hz), round((start + length) * rate_hz))
        sound[part] *= signals.ratio(level_db + 50.0)
    sound[:, 1] *= 0.5
    return sound


@pytest.mark.parametrize("rate_hz", [48_000, 44_100, 16_000])
def test_a_gate_is_closed_where_the_level_is_under_its_threshold(tmp_path, rate_hz):
    """A twin frame by frame: the gain in dB goes to its aim with a time constant; the aim is known ahead."""
    sound = _bursts(rate_hz=rate_hz)
    keys = {"below_db": -40.0, "reduce_db": 24.0, "attack_ms": 3.0, "hold_ms": 60.0, "release_ms": 40.0}
    found = made(_write(tmp_path, sound, rate_hz), _step("gate", **keys))
    loud = _level(sound, rate_hz) >= -40.0
    ahead, hold = int(np.ceil(5 * 0.003 * rate_hz - 1e-9)), round(0.06 * rate_hz)
    is_open = np.zeros(len(sound), bool)
    for frame in np.flatnonzero(loud):
        is_open[max(0, frame - ahead) : frame + 1 + hold] = True
    gain_db, gains_db = 0.0 if is_open[0] else -24.0, np.empty(len(sound))
    for frame, opened in enumerate(is_open):
        gains_db[frame] = gain_db
        aim_db, time_s = (0.0, 0.003) if opened else (-24.0, 0.04)
        gain_db = aim_db + (gain_db - aim_db) * np.exp(-1.0 / (time_s * rate_hz))
    own_db = 20 * np.log10(found[:, 0] / sound[:, 0])
    assert np.abs(own_db - gains_db).max() < 0.02


def test_a_gate_leaves_what_is_loud_to_the_last_bit_and_opens_before_it(tmp_path):
    sound = _bursts()
    found = made(_write(tmp_path, sound), _step("gate", below_db=-40.0))
    part = slice(round(0.5 * RATE_HZ), round(0.9 * RATE_HZ))
    assert 20 * np.log10(np.abs(found[part] / sound[part]).min()) > -0.2
    assert np.array_equal(found[part][2_000:], sound[part][2_000:])
    assert 20 * np.log10(found[10_000, 0] / sound[10_000, 0]) == pytest.approx(-20.0, abs=1e-6)


def test_an_attack_on_the_first_frame_is_not_softened_by_a_gate(tmp_path):
    sound = np.concatenate([signals.noise(0.3, level_db=-10.0), signals.noise(1.0, level_db=-70.0)])
    found = made(_write(tmp_path, sound), _step("gate", below_db=-40.0))
    assert np.array_equal(found[:12_000], sound[:12_000])


@pytest.mark.parametrize(
    ("knee_db", "attack_ms", "release_ms"), [(6.0, 10.0, 120.0), (0.0, 2.0, 50.0), (20.0, 40.0, 400.0)]
)
def test_a_compressor_follows_its_static_curve_and_its_times(tmp_path, knee_db, attack_ms, release_ms):
    """A twin frame by frame, with the quadratic knee as the handbooks have it."""
    sound, above_db, ratio = _bursts(seed=5), -28.0, 4.0
    keys = {"knee_db": knee_db, "attack_ms": attack_ms, "release_ms": release_ms}
    step = _step("compress", above_db=above_db, ratio=ratio, makeup_db=3.0, **keys)
    found = made(_write(tmp_path, sound), step)
    gain_db, gains_db = 0.0, np.empty(len(sound))
    for frame, level_db in enumerate(_level(sound, RATE_HZ)):
        over_db = level_db - above_db
        if 2 * abs(over_db) <= knee_db:
            wanted_db = (1 / ratio - 1) * (over_db + knee_db / 2) ** 2 / (2 * knee_db) if knee_db else 0.0
        else:
            wanted_db = (1 / ratio - 1) * max(over_db, 0.0)
        time_s = (attack_ms if wanted_db < gain_db else release_ms) / 1000
        gain_db = wanted_db + (gain_db - wanted_db) * np.exp(-1 / (time_s * RATE_HZ))
        gains_db[frame] = gain_db + 3.0
    own_db = 20 * np.log10(found[:, 0] / sound[:, 0])
    assert np.abs(own_db - gains_db).max() < 0.25
    assert np.sqrt(np.mean((own_db - gains_db) ** 2)) < 0.03
    chain = chain_of(tmp_path / "take.wav", step)
    lowest_db, highest_db = chain.done[0].step.figures(chain.before, chain.done[0].found)["gain_db"]
    assert lowest_db == pytest.approx(gains_db.min(), abs=0.05)
    assert highest_db == pytest.approx(gains_db.max(), abs=0.05)


def test_a_steady_tone_is_compressed_by_the_ratio(tmp_path):
    """Arithmetic: 12 dB over the threshold at 3 to 1 come out 4 dB over it; a square wave's RMS is its peak."""
    square = np.sign(signals.sine(100.3, 0.0, 2.0, phase_degrees=1.0)) * signals.ratio(-18.0)
    found = made(_write(tmp_path, square), _step("compress", above_db=-30.0, ratio=3.0))
    assert 20 * np.log10(np.abs(found[RATE_HZ, 0])) == pytest.approx(-26.0, abs=0.01)


def _quiet(sound, threshold, shortest):
    """Pauses, frame by frame."""
    found, begin = [], 0
    for frame in range(len(sound) + 1):
        if frame == len(sound) or (np.abs(sound[frame]) >= threshold).any():
            if frame - begin >= shortest:
                found.append((begin, frame))
            begin = frame + 1
    return found


def _with_pauses(*lengths, level=0.5, seed=1):
    """Sounds of 3000 frames that reach their level at both ends, with pauses of so many frames about them."""
    generator = np.random.default_rng(seed)
    parts = []
    for number, frames in enumerate(lengths):
        parts.append(generator.uniform(-0.003, 0.003, (frames, 2)))
        if number + 1 < len(lengths):
            tone = generator.uniform(-level, level, (3_000, 2))
            tone[[0, -1]] = level
            parts.append(tone)
    return np.concatenate(parts)


@pytest.mark.parametrize(
    ("where", "taken"), [("everywhere", (0, 1, 3, 4)), ("head", (0,)), ("tail", (4,)), ("inside", (1, 3))]
)
def test_a_pause_becomes_exactly_as_long_as_is_kept(tmp_path, where, taken):
    """Pauses of 9000, 8000, 4799 (a frame too short), 4800 (just long enough), 7000 frames; 960 are kept."""
    lengths = (9_000, 8_000, 4_799, 4_800, 7_000)
    sound = _with_pauses(*lengths)
    step = _step("pauses", where=where, below_db=-50.0, longer_than_s=0.1, keep_s=0.02)
    found = made(_write(tmp_path, sound), step)
    left = [960 if number in taken else frames for number, frames in enumerate(lengths)]
    assert len(found) == 4 * 3_000 + sum(left)
    at = origin = 0
    for number, frames in enumerate(lengths):
        at, origin = at + left[number], origin + frames
        assert np.array_equal(found[at : at + 3_000], sound[origin : origin + 3_000])
        at, origin = at + 3_000, origin + 3_000
    assert _quiet(found, signals.ratio(-50.0), 500) == [
        (sum(left[:number]) + 3_000 * number, sum(left[: number + 1]) + 3_000 * number) for number in range(5)
    ]
    chain = chain_of(tmp_path / "take.wav", step)
    out = chain.done[0].step.figures(chain.before, chain.done[0].found)["taken_out"]
    assert [round((last - first) * RATE_HZ) for first, last in out] == [lengths[number] - 960 for number in taken]
    assert chain.words[0].startswith(f"Took out {len(taken)} pause")


def test_a_pause_is_joined_without_a_step(tmp_path):
    """Where the two sides of a pause stand at different offsets, the way from one to the other takes 10 ms."""
    sound = _with_pauses(0, 9_600, 0)
    sound[3_000:7_800], sound[7_800:12_600] = 0.002, -0.002
    found = made(_write(tmp_path, sound), _step("pauses", longer_than_s=0.1, keep_s=0.1))
    assert len(found) == 2 * 3_000 + 4_800
    assert np.abs(np.diff(found[3_000 : 3_000 + 4_800, 0])).max() < 0.004 / 470


def test_a_pause_of_which_nothing_is_kept_leaves_the_attack_after_it(tmp_path):
    sound = _with_pauses(0, 9_600, 0)
    found = made(_write(tmp_path, sound), _step("pauses", longer_than_s=0.1, keep_s=0.0))
    assert len(found) == 6_000
    assert np.array_equal(found[3_000:], sound[-3_000:])
    assert np.array_equal(found[: 3_000 - 480], sound[: 3_000 - 480])


def test_a_file_that_is_one_pause_counts_as_its_head(tmp_path):
    path = _write(tmp_path, signals.noise(3.0, level_db=-80.0))
    assert len(made(path, _step("pauses", keep_s=0.25))) == 12_000
    assert len(made(path, _step("pauses", where="tail"))) == 3 * RATE_HZ
    with pytest.raises(EmptyError):
        chain_of(path, _step("pauses", keep_s=0.0))


def test_one_frame_survives_every_step_that_leaves_any(tmp_path):
    path = _write(tmp_path, np.array([[0.5, -0.25]]))
    for step in (
        _step("trim"),
        _step("pauses"),
        _step("tick"),
        _step("dc"),
        _step("high_pass", hz=80.0),
        _step("gate", below_db=-40.0),
        _step("compress", above_db=-40.0, ratio=2.0),
        _step("even"),
        _step("delay", channels=[2], samples="auto"),
        _step("fade", in_s=1.0, out_s=1.0),
    ):
        assert made(path, step).shape == (1, 2)


def test_a_tick_is_mended_and_what_follows_is_left(tmp_path):
    """A click of 20 frames in silence; the fade after it is half a cosine at the frames' middles."""
    sound = np.concatenate([signals.noise(0.5, level_db=-70.0), signals.programme(1.0)])
    sound[30:50] = 0.4
    step = _step("tick")
    found = made(_write(tmp_path, sound), step)
    fade = 0.5 - 0.5 * np.cos(np.pi * (np.arange(96) + 0.5) / 96)
    assert not found[:50].any()
    assert found[50:146] == pytest.approx(sound[50:146] * fade[:, None], abs=1e-15)
    assert np.array_equal(found[146:], sound[146:])
    chain = chain_of(tmp_path / "take.wav", step)
    assert chain.done[0].step.figures(chain.before, chain.done[0].found) == {"at_s": 30 / RATE_HZ}


def test_a_sound_that_begins_on_the_first_frame_is_no_tick(tmp_path):
    sound = signals.noise(1.0, level_db=-20.0)
    chain = chain_of(_write(tmp_path, sound), _step("tick"))
    assert chain.is_nothing
    assert chain.done[0].step.figures(chain.before, chain.done[0].found) == {"at_s": None}


@pytest.mark.parametrize("samples", [0, 1, 777, -777, 47_999, 48_000, 100_000, -48_000])
def test_a_delay_moves_its_channel_and_keeps_the_length(tmp_path, samples):
    sound = signals.programme(1.0)
    found = made(_write(tmp_path, sound), _step("delay", channels=[2], samples=samples))
    twin = np.zeros(len(sound))
    for frame in range(len(sound)):
        if 0 <= frame - samples < len(sound):
            twin[frame] = sound[frame - samples, 1]
    assert np.array_equal(found[:, 0], sound[:, 0])
    assert np.array_equal(found[:, 1], twin)


@pytest.mark.parametrize(
    ("late", "sign"), [(1, 1.0), (-1, 1.0), (2, -1.0), (130, 1.0), (-2_399, 1.0), (2_400, 1.0), (1_000, -1.0)]
)
def test_auto_lines_a_late_side_up_within_50_ms_either_way(tmp_path, late, sign):
    sound = signals.noise(4.0, seed=8)
    sound[:, 1] = sign * 0.5 * np.roll(sound[:, 0], late)
    found = made(_write(tmp_path, sound), _step("delay", channels=[2], samples="auto"))
    middle = slice(3_000, -3_000)
    assert np.array_equal(found[middle, 1], sign * 0.5 * found[middle, 0])


def test_channels_are_flipped_kept_and_mixed_by_their_numbers(tmp_path):
    sound = signals.noise(0.2, channels=3)
    path = _write(tmp_path, sound)
    assert np.array_equal(made(path, _step("flip", channels=[1, 3])), sound * [-1.0, 1.0, -1.0])
    assert np.array_equal(made(path, _step("keep", channels=[3, 1])), sound[:, [2, 0]])
    rows = [[0.5, 0.25], [0.0, 1.0, -0.7]]
    mixed = made(path, _step("mix", rows=rows, layout="stereo"))
    assert mixed == pytest.approx(sound @ np.array([[0.5, 0.25, 0.0], [0.0, 1.0, -0.7]]).T, abs=1e-15)
    for step in (_step("flip", channels=[4]), _step("keep", channels=[4]), _step("delay", channels=[4], samples=1)):
        with pytest.raises(UnsupportedError, match="There is no channel 4: it has 3"):
            chain_of(path, step)


@pytest.mark.parametrize(
    ("from_s", "to_s", "first", "last"),
    [(0.0, 0.5, 0, 24_000), (0.25, 9.0, 12_000, 48_000), (1_000.5 / 48_000, None, 1_001, 48_000)],
)
def test_a_cut_keeps_from_one_frame_up_to_another(tmp_path, from_s, to_s, first, last):
    sound = signals.noise(1.0)
    assert np.array_equal(made(_write(tmp_path, sound), _step("cut", from_s=from_s, to_s=to_s)), sound[first:last])


def test_a_cut_past_the_end_leaves_nothing(tmp_path):
    with pytest.raises(EmptyError, match="Nothing of it lies between 2 s and the end"):
        chain_of(_write(tmp_path, signals.noise(1.0)), _step("cut", from_s=2.0))
