"""Looking into a file anywhere, and playing it from anywhere: what comes is what the whole file says there."""

import io

import numpy as np
import pytest
import soundfile

from nicelevel.core.errors import UnsupportedError
from nicelevel.core.files import take_in
from nicelevel.core.files.decode import can_seek, decode
from nicelevel.core.files.preview import Preview
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
    source = tmp_path / "a.m4a"
    ffmpeg("-i", str(signals.write(tmp_path / "a.wav", signals.noise(2, -20, seed=4))), "-c:a", "aac", str(source))
    assert not can_seek(source)
    with pytest.raises(UnsupportedError), take_in(source) as audio:
        audio.window(0, 10)
    decode(source, tmp_path / "copy.wav")
    assert can_seek(tmp_path / "copy.wav")
    with take_in(source) as audio:
        whole = np.concatenate(list(audio.blocks(10_000)))
    with take_in(tmp_path / "copy.wav") as copy:
        assert np.array_equal(copy.window(0, len(whole)), whole)


@pytest.mark.parametrize(("subtype", "kept"), [("PCM_16", "PCM_16"), ("PCM_24", "PCM_24"), ("FLOAT", "FLOAT")])
def test_a_preview_is_the_file_without_loss(tmp_path, subtype, kept):
    path = signals.write(tmp_path / "a.wav", signals.noise(2.01, -20, seed=5), RATE, subtype)
    preview = Preview(path)
    data = b"".join(preview.read(0, preview.size_bytes))
    assert len(data) == preview.size_bytes
    with soundfile.SoundFile(io.BytesIO(data)) as file:
        assert file.subtype == kept
        assert np.array_equal(file.read(), soundfile.read(path)[0])


@pytest.mark.parametrize(("first", "last"), [(0, 1), (10, 60), (40, 50), (43, 1_000), (100_001, 400_007), (44, 44)])
def test_any_part_of_a_preview_is_that_part_of_the_whole(tmp_path, first, last):
    path = signals.write(tmp_path / "a.flac", signals.noise(2, -20, seed=5))
    preview = Preview(path)
    whole = b"".join(preview.read(0, preview.size_bytes))
    assert b"".join(preview.read(first, last)) == whole[first:last]


def test_of_very_many_channels_the_first_two_are_played(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.noise(0.5, -20, channels=10, seed=5))
    data = b"".join(Preview(path).read(0, 10**9))
    assert np.array_equal(soundfile.read(io.BytesIO(data))[0], soundfile.read(path)[0][:, :2])
