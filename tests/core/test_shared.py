"""Signals that are made once for many: the same as made for each, whoever comes when, and whatever goes wrong."""

import threading
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from nicelevel.core.errors import DamagedError, NotAudioError
from nicelevel.core.plan import plan
from nicelevel.core.prepare import Workshop, shared
from nicelevel.core.prepare.shared import SharedSignals
from nicelevel.core.render import render
from nicelevel.core.specs import parse_spec
from nicelevel.core.steps import Chain
from nicelevel.core.steps.fold import Fold
from nicelevel.core.steps.keep import Keep
from nicelevel.core.steps.length import Length
from nicelevel.core.steps.rate import Rate
from tests import signals

from .preparing import Times, chain_of, made

RESAMPLED = (Rate(hz=44_100),)
SPEC = """
spec.name = "House"
loudness = { target = -20.0, tolerance = 0.5 }
formats = [{ container = "wav", encoding = "pcm_16", sample_rate = 44100 }]
"""


@pytest.fixture
def take(tmp_path):
    return signals.write(tmp_path / "take.wav", signals.programme(6, seed=4), subtype="PCM_24")


@pytest.fixture
def begun(monkeypatch):
    """The recipes of what was begun to be made, in order."""
    asked, on = [], Chain.on

    def counted(chain, signal):
        if threading.current_thread() is not threading.main_thread():
            asked.append(chain.recipe)
        return on(chain, signal)

    monkeypatch.setattr(Chain, "on", counted)
    return asked


def _read(all_shared, path, recipe, frames=4_321):
    with _reading(all_shared, path, recipe) as kept:
        return np.concatenate(list(kept.blocks(frames)))


def _reading(all_shared, path, recipe, is_wanted_again=True):
    return all_shared.reading(path, chain_of(path, *recipe), is_wanted_again)


@pytest.mark.parametrize(
    "recipe",
    [
        RESAMPLED,
        (Fold(layout="mono"),),
        (Rate(hz=96_000), Length(seconds=1.5625, fade_s=0.2)),
        (*RESAMPLED, Keep(channels=(2,))),
    ],
    ids=["resampled", "folded", "cut", "one channel"],
)
def test_all_who_read_side_by_side_get_what_is_made_for_one_alone(take, begun, recipe):
    all_shared = SharedSignals()
    with ThreadPoolExecutor(3) as pool, _reading(all_shared, take, recipe):
        found = list(pool.map(lambda frames: _read(all_shared, take, recipe, frames), (1_000, 65_536, 1 << 20)))
    assert begun == [tuple(step for step in recipe if step.do != "keep")]
    expected = made(take, *recipe)
    assert all(np.array_equal(each, expected) for each in found)


def test_channels_of_their_own_share_the_whole(take, begun):
    all_shared = SharedSignals()
    both = [_read(all_shared, take, (*RESAMPLED, Keep(channels=(number,)))) for number in (1, 2)]
    assert len(begun) == 1
    assert np.array_equal(np.concatenate(both, axis=1), made(take, *RESAMPLED))


@pytest.mark.parametrize(
    ("name", "subtype"), [("take.flac", "PCM_16"), ("take.flac", "PCM_24"), ("take.ogg", "VORBIS")]
)
def test_what_is_coded_is_decoded_once(tmp_path, begun, name, subtype):
    path = signals.write(tmp_path / name, 0.5 * signals.programme(3, seed=4), subtype=subtype)
    all_shared = SharedSignals()
    found = [_read(all_shared, path, ()) for _ in range(2)]
    assert begun == [()]
    assert all(np.array_equal(each, made(path)) for each in found)


def test_nothing_is_shared_that_is_as_quickly_read_again_or_wanted_by_nobody_else_or_too_large(take):
    with _reading(SharedSignals(), take, (), True) as kept:
        assert kept is None
    with _reading(SharedSignals(), take, RESAMPLED, False) as kept:
        assert kept is None
    needed_bytes = 6 * 44_100 * 2 * 4
    with _reading(SharedSignals(needed_bytes - 1), take, RESAMPLED, True) as kept:
        assert kept is None
    with _reading(SharedSignals(needed_bytes), take, RESAMPLED, True) as kept:
        assert kept.codes.nbytes == needed_bytes


def test_the_last_one_joins_though_nobody_comes_after(take, begun):
    all_shared = SharedSignals()
    _read(all_shared, take, RESAMPLED)
    with _reading(all_shared, take, RESAMPLED, False) as kept:
        assert kept is not None
    assert len(begun) == 1


def test_a_signal_that_is_not_read_makes_room_for_another(take, begun):
    needed_bytes = 6 * 48_000 * 2 * 8
    all_shared = SharedSignals(needed_bytes)
    second, third = (Rate(hz=88_200),), (Rate(hz=32_000),)
    with _reading(all_shared, take, RESAMPLED, True) as first:
        # Read to the end: a thread that is stopped before it begins is not counted.
        assert list(first.blocks(4_321))
        with _reading(all_shared, take, second, True) as refused:
            assert refused is None
    _read(all_shared, take, second)
    _read(all_shared, take, third)
    assert begun == [RESAMPLED, second, third]


def test_what_nobody_came_back_for_is_let_go(take):
    all_shared = SharedSignals(linger_s=0.05)
    _read(all_shared, take, RESAMPLED)
    end_s = time.monotonic() + 20.0
    while all_shared._signals and time.monotonic() < end_s:
        time.sleep(0.02)
    assert all_shared._signals == {}


def _rendered(path, folder, kept=None):
    folder.mkdir()
    with Workshop(path, with_hops=False) as shop:
        planned = plan(shop.source(), shop.measured, parse_spec(SPEC, "house"))
    staged = render(path, planned, None, folder / "out.wav", kept=kept)
    content = staged.path.read_bytes()
    staged.discard()
    return content


@pytest.mark.parametrize("blocks", [0, 2])
def test_where_it_cannot_be_made_to_the_end_each_goes_on_for_itself(take, tmp_path, monkeypatch, blocks):
    """The same bytes as without."""
    whole, fails = shared.coded_blocks, threading.Event()

    def failing(*arguments):
        for number, block in enumerate(whole(*arguments)):
            if number == blocks:
                fails.set()
                raise DamagedError("The disk is gone.")
            yield block

    monkeypatch.setattr(shared, "coded_blocks", failing)
    with _reading(SharedSignals(), take, RESAMPLED, True) as kept:
        assert _rendered(take, tmp_path / "a", kept) == _rendered(take, tmp_path / "b")
    assert fails.is_set()


def test_what_passes_the_range_of_steps_is_made_by_each_for_itself(tmp_path):
    """A sum 26 dB too loud does not fit into whole numbers."""
    tone = signals.both(signals.sine(997, -1.0, 3))
    path = signals.write(tmp_path / "loud.wav", tone, subtype="PCM_24")
    loud = (Times(rows=((20.0, 0.0), (0.0, 20.0))), *RESAMPLED)
    with _reading(SharedSignals(), path, loud) as kept:
        assert sum(map(len, kept.blocks(1000))) < 3 * 44_100


def test_a_file_that_cannot_be_read_says_so(tmp_path):
    path = tmp_path / "notes.wav"
    path.write_text("Dear engineer")
    with pytest.raises(NotAudioError), _reading(SharedSignals(), path, RESAMPLED, True):
        pass
