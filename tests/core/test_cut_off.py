"""Files that broke off or do not say how long they are: found, said, and read as far as that is right."""

import numpy as np
import pytest
import soundfile

from nicelevel.core import errors
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from tests import signals


@pytest.fixture
def vorbis(tmp_path):
    path = tmp_path / "take.ogg"
    soundfile.write(path, signals.noise(20), 48_000, format="OGG", subtype="VORBIS")
    return path


def _pages(data):
    found, at = [], data.find(b"OggS")
    while at >= 0:
        found.append(at)
        at = data.find(b"OggS", at + 4)
    return found


@pytest.mark.parametrize("share", [0.3, 0.5, 0.77])
def test_an_ogg_file_that_ends_inside_a_page_is_truncated(vorbis, share):
    data = vorbis.read_bytes()
    at = int(len(data) * share)
    vorbis.write_bytes(data[: at + 1 if at in _pages(data) else at])
    with pytest.raises(errors.TruncatedError, match="in the middle of a page"):
        take_in(vorbis)


def test_an_ogg_file_that_does_not_say_that_it_ends_gets_a_note(vorbis):
    data = vorbis.read_bytes()
    assert "without_end" not in [note.code for note in measure(vorbis).notes]
    pages = _pages(data)
    vorbis.write_bytes(data[: pages[len(pages) // 2]])
    assert "without_end" in [note.code for note in measure(vorbis).notes]


@pytest.mark.parametrize("bits", [16, 24])
def test_a_flac_file_of_unknown_length_is_counted(tmp_path, bits):
    """RFC 9639, 8.2: a total of 0 samples, in the last 36 bits before the MD5, means that it is not known."""
    path, signal = tmp_path / "take.flac", signals.noise(3)
    soundfile.write(path, signal, 48_000, subtype=f"PCM_{bits}")
    data = bytearray(path.read_bytes())
    data[21] &= 0xF0
    data[22:26] = bytes(4)
    known = measure(path)
    path.write_bytes(data)
    with take_in(path) as audio:
        assert (audio.source.frames, audio.source.bits_declared) == (len(signal), bits)
        block = np.concatenate(list(audio.blocks(1 << 16)))
    assert np.abs(block - signal).max() < 2.0 ** (1 - bits)
    assert measure(path).integrated_lufs == pytest.approx(known.integrated_lufs, abs=1e-6)


def test_an_mp3_whose_frames_do_not_follow_is_said_in_words_of_its_own(tmp_path):
    path = tmp_path / "take.mp3"
    path.write_bytes(b"ID3\x04\x00\x00\x00\x00\x00\x0a" + bytes(10) + b"\xff\xfb\x90\x00" + b"\x55" * 3000)
    with pytest.raises(errors.NiceLevelError) as refused:
        take_in(path)
    assert "does not exist" not in refused.value.message
    assert "System error" not in refused.value.message
