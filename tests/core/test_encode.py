"""What is encoded: exact length, every channel in its place, no shift, the same bytes twice, read by others too."""

import json
import subprocess
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
import soundfile

from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import open_sink, take_in
from nicelevel.core.files.containers import unwritable
from nicelevel.core.values import OutputFormat
from tests import signals

FRAMES = 3 * 48_000 + 1_237

# Name: container, encoding, rate, channels, kbit/s, mode, packing.
LOSSY = {
    "mp3": ("mp3", "mp3", 44_100, 2, 192.0, "constant"),
    "mp3 in one channel": ("mp3", "mp3", 48_000, 1, 96.0, "variable"),
    "mp3 at half the rate": ("mp3", "mp3", 22_050, 2, 64.0, "constant"),
    "aac": ("m4a", "aac", 48_000, 2, 192.0, "constant"),
    "aac 5.1": ("m4a", "aac", 44_100, 6, 320.0, "constant"),
    "aac 7.1": ("m4a", "aac", 48_000, 8, 512.0, "constant"),
    "opus 7.1": ("ogg", "opus", 48_000, 8, 448.0, "variable"),
    "vorbis 7.1": ("ogg", "vorbis", 48_000, 8, 500.0, "variable"),
    "opus": ("ogg", "opus", 48_000, 2, 128.0, "constant"),
    "opus variable": ("ogg", "opus", 48_000, 2, 128.0, "variable"),
    "opus 5.1": ("ogg", "opus", 48_000, 6, 256.0, "variable"),
    "vorbis": ("ogg", "vorbis", 44_100, 2, 160.0, "variable"),
    "vorbis 5.1": ("ogg", "vorbis", 48_000, 6, 320.0, "variable"),
}
LOSSLESS = {
    "alac 16": ("m4a", "pcm_16", 44_100, 2, "alac"),
    "alac 24": ("m4a", "pcm_24", 48_000, 2, "alac"),
    "alac 5.1": ("m4a", "pcm_24", 96_000, 6, "alac"),
    "alac in caf": ("caf", "pcm_24", 48_000, 2, "alac"),
    "caf 16": ("caf", "pcm_16", 48_000, 2, None),
    "caf 24": ("caf", "pcm_24", 48_000, 6, None),
    "caf float": ("caf", "float_32", 48_000, 2, None),
    "aiff float": ("aiff", "float_32", 48_000, 2, None),
    "flac": ("flac", "pcm_24", 48_000, 8, "flac"),
}


def _output(container, encoding, rate, channels, kbps=None, mode="constant", lossless=None):
    return OutputFormat(container, encoding, rate, layout_from_count(channels), "none", kbps, mode, lossless)


def _written(path, output, signal):
    sink = open_sink(path, output, len(signal), seed=77)
    for first in range(0, len(signal), 10_000):
        sink.write(signal[first : first + 10_000])
    sink.close()
    return path


def _read(path):
    with take_in(path) as audio:
        return audio.source, np.concatenate(list(audio.blocks(1 << 16)))


def _tones(rate, channels):
    """Every channel another level, the LFE channel low; bursts that show where they are."""
    time = np.arange(FRAMES) / rate
    bursts = 0.4 * (0.3 + 0.7 * (time % 0.5 < 0.2))
    levels, hz = np.linspace(1.0, 0.4, channels), np.full(channels, 440.0)
    if channels >= 6:
        hz[3] = 60.0
    return bursts[:, None] * levels * np.sin(2 * np.pi * time[:, None] * hz)


@pytest.mark.parametrize("name", LOSSY)
def test_a_lossy_file_has_its_length_its_channels_and_no_shift(tmp_path, name):
    output = _output(*LOSSY[name])
    signal = _tones(output.sample_rate_hz, len(output.layout.positions))
    source, decoded = _read(_written(tmp_path / "file", output, signal))
    assert source.frames == len(decoded) == FRAMES
    assert (source.container, source.encoding) == (output.container, output.encoding)
    for channel in range(signal.shape[1]):
        wanted, found = signal[:, channel], decoded[:, channel]
        level_db = 20 * np.log10(np.sqrt(np.mean(found**2) / np.mean(wanted**2)))
        # Codecs code an LFE channel for its effect alone, low-passed.
        is_lfe = channel == 3 and signal.shape[1] >= 6
        assert level_db == pytest.approx(0.0, abs=2.0 if is_lfe else 0.7)
        assert abs(_lag(wanted, found)) <= (10 if is_lfe else 0)


def _lag(wanted, found):
    """How many frames one is later than the other: where their correlation is highest."""
    length = 1 << 19
    product = np.fft.rfft(found, length) * np.fft.rfft(wanted, length).conj()
    correlation = np.fft.irfft(product * (np.abs(np.fft.rfftfreq(length)) < 0.2))
    lag = int(np.argmax(correlation))
    return lag - length if lag > length // 2 else lag


@pytest.mark.parametrize("name", LOSSLESS)
def test_a_lossless_file_has_every_bit(tmp_path, name):
    container, encoding, rate, channels, packing = LOSSLESS[name]
    output = _output(container, encoding, rate, channels, lossless=packing)
    signal = _tones(rate, channels)
    codes = (
        signal.astype(np.float32) if output.bits is None else np.round(signal * 2 ** (output.bits - 1)).astype(int)
    )
    written = codes.astype(np.float64) if output.bits is None else codes.astype(np.int32)
    source, decoded = _read(_written(tmp_path / "file", output, written))
    expected = codes if output.bits is None else codes / 2.0 ** (output.bits - 1)
    assert source.bits_declared == output.bits
    assert np.array_equal(decoded, expected)


@pytest.mark.parametrize("name", [*LOSSY, "alac 24"])
def test_the_same_input_gives_the_same_bytes(tmp_path, name):
    container, encoding, rate, channels, *rest = (LOSSY | LOSSLESS)[name]
    output = _output(container, encoding, rate, channels, *([] if rest[0] == "alac" else rest))
    if rest[0] == "alac":
        output = _output(container, encoding, rate, channels, lossless="alac")
    signal = signals.noise(0.5, -20, rate, channels, seed=1)
    samples = signal if output.bits is None else np.round(signal * 2**23).astype(np.int32)
    one, other = (_written(tmp_path / each, output, samples).read_bytes() for each in ("one", "other"))
    assert one == other


@pytest.mark.parametrize("name", LOSSY)
def test_others_read_it_without_a_complaint_and_agree_on_what_it_is(tmp_path, name):
    output = _output(*LOSSY[name])
    signal = _tones(output.sample_rate_hz, len(output.layout.positions))
    path = _written(tmp_path / f"file.{output.container}", output, signal)
    decoding = subprocess.run(
        ["ffmpeg", "-v", "warning", "-i", path, "-f", "null", "-"], capture_output=True, text=True
    )
    assert decoding.returncode == 0
    assert decoding.stderr == ""
    probed = subprocess.run(
        ["ffprobe", "-v", "error", "-show_streams", "-of", "json", path], capture_output=True, text=True, check=True
    )
    stream = json.loads(probed.stdout)["streams"][0]
    rate = 48_000 if output.encoding == "opus" else output.sample_rate_hz
    assert stream["codec_name"] == output.encoding
    assert (int(stream["sample_rate"]), stream["channels"]) == (rate, len(output.layout.positions))


def _complaints(path):
    """What ffmpeg says while it decodes a file."""
    command = ["ffmpeg", "-v", "warning", "-i", path, "-f", "null", "-"]
    return subprocess.run(command, capture_output=True, text=True).stderr


def test_ac3_ends_on_a_whole_frame_and_begins_256_frames_late(tmp_path):
    """ATSC A/52: 1536 frames at a time; the overlap of its transform is 256 frames. It has no place for a length."""
    output = _output("ac3", "ac3", 48_000, 6, 448.0)
    signal = _tones(48_000, 6)
    source, decoded = _read(_written(tmp_path / "file.ac3", output, signal))
    assert source.frames % 1536 == 0
    assert 0 <= source.frames - FRAMES < 1536 + 256
    assert _lag(signal[:, 0], decoded[:FRAMES, 0]) == 256


@pytest.mark.parametrize(
    ("output", "words"),
    [
        (_output("mp3", "mp3", 44_100, 6, 192.0), "at most 2 channels"),
        (_output("mp3", "mp3", 44_100, 2, 200.0), "nearest is 192"),
        (_output("mp3", "mp3", 96_000, 2, 192.0), "no sample rate of 96000"),
        (_output("ac3", "ac3", 48_000, 2, 400.0), "nearest is 384"),
        (_output("ac3", "ac3", 96_000, 2, 448.0), "AC-3 has no sample rate"),
        (_output("ogg", "opus", 44_100, 2, 128.0), "Opus has no sample rate"),
        (_output("ogg", "pcm_24", 48_000, 2, lossless="flac"), "FLAC in Ogg"),
        (_output("flac", "pcm_32", 48_000, 2, lossless="flac"), "packs 16 and 24 bits"),
        (_output("m4a", "aac", 48_000, 3, 192.0), "1, 2, 6 or 8 channels"),
        (_output("m4a", "pcm_24", 48_000, 8, lossless="alac"), "ALAC has no layout of 8 channels"),
        (_output("caf", "pcm_24", 48_000, 6, lossless="alac"), "M4A holds it"),
        (_output("flac", "pcm_24", 48_000, 10, lossless="flac"), "at most 8"),
    ],
)
def test_what_cannot_be_is_refused_with_the_reason(output, words):
    assert words in unwritable(output)


@pytest.mark.parametrize("name", LOSSY)
def test_what_can_be_is_not_refused(name):
    assert unwritable(_output(*LOSSY[name])) is None


def test_pages_of_ogg_have_true_checksums(tmp_path):
    path = _written(tmp_path / "file.ogg", _output(*LOSSY["vorbis"]), _tones(44_100, 2))
    assert soundfile.info(path).frames == FRAMES
    data = bytearray(path.read_bytes())
    assert data[14:18] == (77).to_bytes(4, "little")
    data[len(data) // 2] ^= 1
    (tmp_path / "broken.ogg").write_bytes(data)
    assert "CRC mismatch" in _complaints(tmp_path / "broken.ogg")


def test_vorbis_is_written_at_any_length_at_once(tmp_path):
    """libvorbis copies the first frames onto the stack, which is small in a thread: a minute ended the process."""
    output = _output("ogg", "vorbis", 48_000, 2, 160.0, "variable")
    with ThreadPoolExecutor(1) as pool:
        path = pool.submit(_written, tmp_path / "file.ogg", output, signals.noise(60, -20)).result()
    assert soundfile.info(path).frames == 60 * 48_000
