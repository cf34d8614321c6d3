"""Looking into a file anywhere: what comes is what the whole file says there."""

import numpy as np
import pytest

from nicelevel.core.errors import UnsupportedError
from nicelevel.core.files import take_in
from nicelevel.core.files.decode import decode, needs_copy
from tests import signals

from .test_formats import ffmpeg

RATE = 48_000


@pytest.mark.parametrize(
    ("name", "subtype"),
    [
        ("a.wav", "PCM_24"),
        ("a.wav", "PCM_16"),
        ("a.wav", "FLOAT"),
        ("a.aiff", "PCM_24"),
        ("a.flac", "PCM_24"),
        ("a.ogg", "VORBIS"),
        ("a.mp3", "MPEG_LAYER_III"),
    ],
)
def test_a_window_is_what_the_whole_file_holds_there(tmp_path, name, subtype):
    path = signals.write(tmp_path / name, signals.noise(3, -20, seed=3), RATE, subtype)
    with take_in(path) as audio:
        whole = np.concatenate(list(audio.blocks(10_000)))
    for first, last in [(0, 100), (99_000, 99_500), (len(whole) - 7, len(whole)), (5, 5)]:
        with take_in(path) as audio:
            assert np.array_equal(audio.window(first, last), whole[first:last].astype(np.float32))


def test_what_can_only_be_read_from_its_start_is_decoded_into_a_copy(tmp_path):
    source = tmp_path / "a.ac3"
    ffmpeg("-i", str(signals.write(tmp_path / "a.wav", signals.noise(2, -20, seed=4))), str(source))
    assert needs_copy(source)
    with pytest.raises(UnsupportedError), take_in(source) as audio:
        audio.window(0, 10)
    decode(source, tmp_path / "copy.wav")
    assert not needs_copy(tmp_path / "copy.wav")
    with take_in(source) as audio:
        whole = np.concatenate(list(audio.blocks(10_000)))
    with take_in(tmp_path / "copy.wav") as copy:
        assert np.array_equal(copy.window(0, len(whole)), whole)
