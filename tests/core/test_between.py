"""Files stay open between the pieces that are asked for."""

import threading

import numpy as np
import pytest

from nicelevel.core.errors import NotFoundError
from nicelevel.core.files.between import KEPT, kept_open
from tests import signals


def test_the_next_one_gets_the_same_open_file(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.noise(1, seed=1))
    with kept_open(path) as first:
        one = first.window(100, 200)
    with kept_open(path) as second:
        assert second is first
        assert np.array_equal(second.window(100, 200), one)


def test_two_at_once_get_one_each(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.noise(1, seed=1))
    with kept_open(path) as one, kept_open(path) as other:
        assert one is not other


def test_what_was_written_anew_is_opened_anew(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.noise(1, seed=1))
    with kept_open(path) as first:
        pass
    signals.write(path, signals.noise(2, seed=2))
    with kept_open(path) as second:
        assert second is not first
        assert second.source.frames == 96_000


def test_what_failed_is_not_kept(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.noise(1, seed=1))
    with pytest.raises(RuntimeError), kept_open(path) as first:
        raise RuntimeError
    with kept_open(path) as second:
        assert second is not first
    with pytest.raises(NotFoundError), kept_open(tmp_path / "none.wav"):
        pass


def test_many_readers_of_many_files_get_what_they_ask_for(tmp_path):
    paths = [signals.write(tmp_path / f"{n}.wav", np.full((4_800, 2), n / 64)) for n in range(KEPT + 8)]
    wrong = []

    def read(seed):
        chance = np.random.default_rng(seed)
        for n in chance.integers(0, len(paths), 60):
            with kept_open(paths[n]) as audio:
                if not np.array_equal(audio.window(10, 20), np.full((10, 2), n / 64, np.float32)):
                    wrong.append(n)

    threads = [threading.Thread(target=read, args=(seed,)) for seed in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert wrong == []
