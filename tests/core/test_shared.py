"""Signals that are made once for many: the same as made for each, whoever comes when, and whatever goes wrong."""

import threading
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from nicelevel.core.channels import layout_of_name
from nicelevel.core.errors import DamagedError, NotAudioError
from nicelevel.core.files import take_in
from nicelevel.core.plan import plan
from nicelevel.core.prepare import UNTOUCHED, Workshop, shared
from nicelevel.core.prepare.prepared import prepared_blocks
from nicelevel.core.prepare.shared import SharedSignals
from nicelevel.core.render import render
from nicelevel.core.specs import parse_spec
from nicelevel.core.values import Preparation
from tests import signals

RESAMPLED = Preparation(sample_rate_hz=44_100)
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
    """What was begun to be made, in order."""
    asked, whole = [], shared.coded_blocks

    def counted(audio, preparation, *room):
        asked.append(preparation)
        return whole(audio, preparation, *room)

    monkeypatch.setattr(shared, "coded_blocks", counted)
    return asked


def _made_alone(path, preparation):
    with take_in(path) as audio:
        return np.concatenate(list(prepared_blocks(audio, preparation, 10_007)))


def _read(all_shared, path, preparation, frames=4_321):
    with all_shared.reading(path, preparation, is_wanted_again=True) as kept:
        return np.concatenate(list(kept.blocks(frames)))


@pytest.mark.parametrize(
    "preparation",
    [
        RESAMPLED,
        Preparation(((0.5, 0.5),), layout_of_name("mono")),
        Preparation(sample_rate_hz=96_000, frames=150_000, fade_frames=20_000),
        Preparation(sample_rate_hz=44_100, channel=1),
    ],
    ids=["resampled", "folded", "cut", "one channel"],
)
def test_all_who_read_side_by_side_get_what_is_made_for_one_alone(take, begun, preparation):
    all_shared = SharedSignals()
    with ThreadPoolExecutor(3) as pool, all_shared.reading(take, preparation, is_wanted_again=True):
        found = list(pool.map(lambda frames: _read(all_shared, take, preparation, frames), (1_000, 65_536, 1 << 20)))
    assert begun == [preparation.of_all_channels]
    expected = _made_alone(take, preparation)
    assert all(np.array_equal(each, expected) for each in found)


def test_channels_of_their_own_share_the_whole(take, begun):
    all_shared = SharedSignals()
    both = [_read(all_shared, take, Preparation(sample_rate_hz=44_100, channel=number)) for number in range(2)]
    assert len(begun) == 1
    assert np.array_equal(np.concatenate(both, axis=1), _made_alone(take, RESAMPLED))


@pytest.mark.parametrize(
    ("name", "subtype"), [("take.flac", "PCM_16"), ("take.flac", "PCM_24"), ("take.ogg", "VORBIS")]
)
def test_what_is_coded_is_decoded_once(tmp_path, begun, name, subtype):
    path = signals.write(tmp_path / name, 0.5 * signals.programme(3, seed=4), subtype=subtype)
    all_shared = SharedSignals()
    found = [_read(all_shared, path, UNTOUCHED) for _ in range(2)]
    assert begun == [UNTOUCHED]
    assert all(np.array_equal(each, _made_alone(path, UNTOUCHED)) for each in found)


def test_nothing_is_shared_that_is_as_quickly_read_again_or_wanted_by_nobody_else_or_too_large(take):
    with SharedSignals().reading(take, UNTOUCHED, is_wanted_again=True) as kept:
        assert kept is None
    with SharedSignals().reading(take, RESAMPLED, is_wanted_again=False) as kept:
        assert kept is None
    needed_bytes = 6 * 44_100 * 2 * 4
    with SharedSignals(needed_bytes - 1).reading(take, RESAMPLED, is_wanted_again=True) as kept:
        assert kept is None
    with SharedSignals(needed_bytes).reading(take, RESAMPLED, is_wanted_again=True) as kept:
        assert kept.codes.nbytes == needed_bytes


def test_the_last_one_joins_though_nobody_comes_after(take, begun):
    all_shared = SharedSignals()
    _read(all_shared, take, RESAMPLED)
    with all_shared.reading(take, RESAMPLED, is_wanted_again=False) as kept:
        assert kept is not None
    assert len(begun) == 1


def test_a_signal_that_is_not_read_makes_room_for_another(take, begun):
    needed_bytes = 6 * 48_000 * 2 * 8
    all_shared = SharedSignals(needed_bytes)
    second, third = Preparation(sample_rate_hz=88_200), Preparation(sample_rate_hz=32_000)
    with all_shared.reading(take, RESAMPLED, is_wanted_again=True) as first:
        # Read to the end: a thread that is stopped before it begins is not counted.
        assert list(first.blocks(4_321))
        with all_shared.reading(take, second, is_wanted_again=True) as refused:
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
        made = plan(shop.source(), shop.find, parse_spec(SPEC, "house"))
    staged = render(path, made, None, folder / "out.wav", kept=kept)
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
    with SharedSignals().reading(take, RESAMPLED, is_wanted_again=True) as kept:
        assert _rendered(take, tmp_path / "a", kept) == _rendered(take, tmp_path / "b")
    assert fails.is_set()


def test_what_passes_the_range_of_steps_is_made_by_each_for_itself(tmp_path):
    """A sum 26 dB too loud does not fit into whole numbers."""
    tone = signals.both(signals.sine(997, -1.0, 3))
    path = signals.write(tmp_path / "loud.wav", tone, subtype="PCM_24")
    loud = Preparation(((20.0, 0.0), (0.0, 20.0)), layout_of_name("stereo"), 44_100)
    with SharedSignals().reading(path, loud, is_wanted_again=True) as kept:
        assert sum(map(len, kept.blocks(1000))) < 3 * 44_100


def test_a_file_that_cannot_be_read_says_so(tmp_path):
    path = tmp_path / "notes.wav"
    path.write_text("Dear engineer")
    with pytest.raises(NotAudioError), SharedSignals().reading(path, RESAMPLED, is_wanted_again=True):
        pass
