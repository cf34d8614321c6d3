"""The contract that every step keeps: what is made does not depend on how it is asked for."""

from fractions import Fraction

import numpy as np
import pytest

from nicelevel.core.errors import EmptyError, NiceLevelError, UnsupportedError
from nicelevel.core.files import take_in
from nicelevel.core.signals import Span, Timeline
from nicelevel.core.steps import STEPS, recipe_from_json, recipe_to_json
from tests import signals

from .preparing import chain_of, made, whole

RATE_HZ, SECONDS = 48_000, 2.5

ROWS = [
    # keys of the step, and those with which it changes nothing (None: it always changes something)
    ({"do": "gain", "db": -7.3}, {"db": 0.0}),
    ({"do": "trim", "below_db": -50.0, "keep_s": 0.1}, {"keep_s": 3.0}),
    ({"do": "silence", "head_s": 0.5, "tail_s": 0.25}, {"head_s": 0.0, "tail_s": 0.0}),
    ({"do": "fade", "in_s": 0.3, "out_s": 1.0, "shape": "concave"}, {"in_s": 0.0, "out_s": 0.0}),
    ({"do": "fold", "layout": "mono"}, {"layout": "stereo"}),
    ({"do": "fold", "layout": "5.1"}, {"layout": "stereo"}),
    ({"do": "rate", "hz": 44_100}, {"hz": RATE_HZ}),
    ({"do": "rate", "hz": 96_000}, {"hz": RATE_HZ}),
    ({"do": "length", "seconds": 1.25, "fade_s": 0.5}, {"seconds": SECONDS}),
    ({"do": "length", "seconds": 3.1}, {"seconds": SECONDS}),
    ({"do": "cut", "from_s": 0.25, "to_s": 2.0}, {"from_s": 0.0, "to_s": 9.0}),
    ({"do": "pauses", "below_db": -50.0, "longer_than_s": 0.2, "keep_s": 0.1}, {"longer_than_s": 2.0}),
    ({"do": "pauses", "below_db": -25.0, "longer_than_s": 0.001, "keep_s": 0.0005}, {"longer_than_s": 3.0}),
    ({"do": "tick"}, None),
    ({"do": "dc"}, None),
    ({"do": "high_pass", "hz": 80.0}, None),
    ({"do": "high_pass", "hz": 300.0, "order": 7}, None),
    ({"do": "gate", "below_db": -30.0, "hold_ms": 5.0, "release_ms": 20.0}, {"reduce_db": 0.0}),
    ({"do": "compress", "above_db": -24.0, "ratio": 3.0, "makeup_db": 2.0}, {"ratio": 1.0, "makeup_db": 0.0}),
    ({"do": "even"}, None),
    ({"do": "speech"}, {}),
    ({"do": "flip"}, {"channels": []}),
    ({"do": "delay", "channels": [2], "samples": 777}, {"samples": 0}),
    ({"do": "delay", "channels": [1], "samples": -1_234}, {"channels": []}),
    ({"do": "delay", "channels": [2], "samples": "auto"}, {"channels": []}),
    ({"do": "mix", "rows": [[0.5, 0.25]]}, {"rows": [[1.0], [0.0, 1.0]], "layout": "stereo"}),
    ({"do": "keep", "channels": [2]}, {"channels": [1, 2]}),
    ({"do": "keep", "channels": [2, 1]}, {"channels": [1, 2]}),
]
IDS = [" ".join(str(value) for value in row[0].values()) for row in ROWS]


def _step(keys):
    return recipe_from_json([keys])[0]


@pytest.fixture(params=["PCM_24", "DOUBLE"])
def take(request, tmp_path):
    """A tick at its head, silence at both ends, a level that is not symmetric about 0, a second side that is late."""
    programme = signals.programme(SECONDS - 0.7, seed=4)
    programme[:, 1] = 0.8 * np.roll(programme[:, 0], 150) + 0.2 * programme[:, 1]
    sound = np.concatenate([signals.silence(0.4), programme + np.array([0.01, 0.0]), signals.silence(0.3)])
    sound[20] = 0.5
    return signals.write(tmp_path / "take.wav", sound, RATE_HZ, request.param)


@pytest.fixture(params=ROWS, ids=IDS)
def row(request):
    return request.param


@pytest.fixture
def step(row):
    return _step(row[0])


def test_every_step_has_a_row():
    assert {row[0]["do"] for row in ROWS} == set(STEPS)


def test_the_length_is_known_to_the_frame_beforehand(take, step):
    shape = chain_of(take, step).shape
    assert made(take, step).shape == (shape.frames, shape.channels)


def test_the_size_of_blocks_changes_nothing(take, step):
    first = made(take, step)
    for frames in (997, 65_536, 1 << 20):
        assert _is_same(take, first, made(take, step, frames=frames))


def test_a_window_is_what_the_blocks_have_there(take, step):
    everything, chain = made(take, step), chain_of(take, step)
    frames = chain.shape.frames
    for first, last in ((0, 100), (0, 5_000), (12_345, 23_456), (frames - 7_001, frames), (0, frames)):
        with take_in(take) as audio:
            piece = chain.on(audio).window(first, last)
        assert piece.shape == (last - first, everything.shape[1])
        assert _is_same(take, piece, everything[first:last])


def test_one_channel_alone_is_that_channel_of_the_whole(take, step):
    everything, chain = made(take, step), chain_of(take, step)
    for number in range(chain.shape.channels):
        with take_in(take) as audio:
            alone = whole(chain.on(audio).only([number]), 4_321)
        assert np.array_equal(alone[:, 0], everything[:, number])


def test_codes_are_the_samples(take, step):
    with take_in(take) as audio:
        signal = chain_of(take, step).on(audio)
        codes = np.concatenate(list(signal.code_blocks(10_007)))
        mask = -256 if signal.coding.item_bytes == 3 else -1
        samples = (codes & mask) * signal.coding.scale if signal.coding.is_whole else codes
    assert np.array_equal(samples, made(take, step))


def test_settings_that_are_neutral_change_nothing(take, row):
    if row[1] is None:
        pytest.skip("it always changes something")
    chain = chain_of(take, _step(row[0] | row[1]))
    assert chain.is_nothing
    assert chain.digest_of("abc") == "abc"
    assert np.array_equal(made(take, *chain.recipe), made(take))


def test_the_timeline_inverts(take, step):
    chain = chain_of(take, step)
    kept = 0
    for at in range(0, 2_500, 7):
        at_s = Fraction(at, 1_000)
        there_s = chain.timeline.to_output(at_s)
        if there_s is not None:
            kept += 1
            assert chain.timeline.to_source(there_s) == at_s
            assert 0 <= there_s <= chain.shape.duration_s
    assert kept > 100


def test_it_is_kept_as_json_and_says_what_it_does(take, step):
    (again,) = recipe_from_json(recipe_to_json([step]))
    assert again == step
    assert step.doing
    chain = chain_of(take, step)
    assert all(each.endswith(".") for each in chain.words)
    assert chain.digest_of("abc") == chain_of(take, again).digest_of("abc")
    assert (chain.digest_of("abc") == "abc") == chain.is_nothing


def _is_same(path, one, other):
    """To the last bit; of floating point that went through a filter, to 240 dB under full scale."""
    if path.name and one.shape == other.shape and np.array_equal(one, other):
        return True
    with take_in(path) as audio:
        is_whole = audio.coding.is_whole
    return not is_whole and one.shape == other.shape and np.abs(one - other).max() < 1e-12


def test_steps_are_done_in_their_order_and_times_follow_them(take):
    """What is cut to 2 s and resampled is what is resampled and cut, but for the filter's reach at the cut."""
    cut, rate = _step({"do": "length", "seconds": 2.0}), _step({"do": "rate", "hz": 44_100})
    one, other = made(take, cut, rate), made(take, rate, cut)
    assert one.shape == other.shape == (88_200, 2)
    assert np.abs(one - other)[:-4_410].max() < 1e-6
    assert chain_of(take, rate, cut).timeline.to_output(1.5) == Fraction(3, 2)
    assert chain_of(take, rate, cut).timeline.to_output(2.25) is None


def test_a_step_that_cannot_be_done_here_says_why(take):
    with pytest.raises(UnsupportedError, match="There is no channel 3: it has 2"):
        chain_of(take, _step({"do": "keep", "channels": [3]}))
    with pytest.raises(EmptyError, match="Nothing is left"):
        chain_of(take, _step({"do": "length", "seconds": 1e-9}))


@pytest.mark.parametrize(
    "keys",
    [
        {"do": "warble"},
        {"do": "rate"},
        {"do": "rate", "hz": 0},
        {"do": "length", "seconds": -1.0},
        {"do": "length", "seconds": float("nan")},
        {"do": "keep", "channels": []},
        {"do": "rate", "hz": 44_100, "colour": "red"},
    ],
)
def test_what_is_no_step_is_refused(keys):
    with pytest.raises(ValueError, match=r"steps|tuple|validation"):
        _step(keys)


def test_one_timeline_after_another():
    """A head taken off, then silence put in front."""
    trimmed = Timeline((Span(Fraction(2), Fraction(0)),))
    delayed = Timeline((Span(Fraction(0), Fraction(1, 2)),))
    both = trimmed.then(delayed)
    assert both.to_output(3) == Fraction(3, 2)
    assert both.to_output(1) is None
    assert both.to_source(Fraction(1, 4)) is None
    assert both.origin_s == Fraction(3, 2)
    assert both.to_source(Fraction(3, 2)) == 3


def test_whether_samples_are_whole_is_told_by_the_file_and_its_header_alike(tmp_path):
    """What is kept is told from the header before the file is decoded."""
    sound = 0.5 * signals.programme(1)
    kinds = [("wav", "PCM_U8"), ("wav", "PCM_16"), ("wav", "PCM_24"), ("wav", "FLOAT"), ("flac", "PCM_16")]
    kinds += [("ogg", "VORBIS"), ("aiff", "PCM_24"), ("wav", "ULAW"), ("mp3", "MPEG_LAYER_III")]
    for suffix, subtype in kinds:
        path = signals.write(tmp_path / f"{subtype}.{suffix}", sound, 48_000, subtype)
        try:
            with take_in(path) as audio:
                assert audio.coding.is_whole == (audio.source.bits_declared is not None), subtype
        except NiceLevelError as error:
            pytest.fail(f"{subtype}: {error}")
