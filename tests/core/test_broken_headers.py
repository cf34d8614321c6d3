"""Thousands of files with broken headers: a reading or a sentence, never a traceback, a hang or a flood of memory."""

import struct
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.measure import measure
from tests import signals

HEADER_BYTES = 80
MOST_MEMORY_BYTES = 300_000_000

_KINDS = {
    "wav": {"subtype": "PCM_16"},
    "wavex": {"subtype": "PCM_24", "format": "WAVEX"},
    "rf64": {"subtype": "PCM_24", "format": "RF64"},
    "aiff": {"subtype": "PCM_16", "format": "AIFF"},
    "flac": {"subtype": "PCM_16", "format": "FLAC"},
    "w64": {"subtype": "PCM_24", "format": "W64"},
    "caf": {"subtype": "PCM_16", "format": "CAF"},
    "au": {"subtype": "PCM_16", "format": "AU"},
    "mp3": {"subtype": "MPEG_LAYER_III", "format": "MP3"},
    "ogg": {"subtype": "VORBIS", "format": "OGG"},
}


@pytest.fixture(scope="module", params=_KINDS)
def whole(request, tmp_path_factory):
    path = tmp_path_factory.mktemp("whole") / "whole.wav"
    return signals.write(path, signals.noise(0.05, channels=2), **_KINDS[request.param]).read_bytes()


@pytest.fixture(scope="module")
def memory_before():
    """What the process holds now; its high-water mark is put back to that (proc(5), clear_refs)."""
    Path("/proc/self/clear_refs").write_text("5")
    return memory_bytes("VmRSS")


def memory_bytes(name):
    status = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) * 1024 for line in status if line.startswith(f"{name}:"))


_numbers = st.sampled_from([0, 1, 2, 3, 0x7F, 0x80, 0xFF, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 48_000])
_changes = st.lists(
    st.tuples(st.integers(0, HEADER_BYTES - 4), _numbers, st.sampled_from("BHI")), min_size=1, max_size=4
)


@settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(changes=_changes, cut=st.one_of(st.none(), st.integers(1, 2_000)), big_endian=st.booleans())
def test_a_broken_header_ends_in_a_reading_or_a_sentence(whole, memory_before, changes, cut, big_endian):
    data = bytearray(whole)
    for at, number, kind in changes:
        size = struct.calcsize(kind)
        struct.pack_into((">" if big_endian else "<") + kind, data, at, number & (256**size - 1))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "broken.wav"
        path.write_bytes(data[:cut] if cut else data)
        answer = _frames_or_sentence(path)
    assert answer > 0 if isinstance(answer, int) else answer.endswith(".") and "\n" not in answer
    assert memory_bytes("VmHWM") - memory_before < MOST_MEMORY_BYTES


def test_an_mp3_that_states_less_than_is_to_be_taken_off_it_is_counted(tmp_path):
    """The encoder's own frame says how many there are; less delay and padding one frame is no length at all."""
    path = signals.write(tmp_path / "whole.wav", signals.noise(0.5, channels=2), **_KINDS["mp3"])
    frames, data = measure(path).source.frames, bytearray(path.read_bytes())
    at = data.index(b"Xing") + 8
    data[at : at + 4] = (1).to_bytes(4, "big")
    path.write_bytes(data)
    # What pads the last frame is told by what cannot be believed any more.
    assert frames <= measure(path).source.frames < frames + 1152


def _frames_or_sentence(path):
    try:
        return measure(path).source.frames
    except NiceLevelError as error:
        return error.message
