"""Every format that is read: facts as ffprobe prints them, samples as they were, lengths exact."""

import json
import subprocess

import numpy as np
import pytest
import soundfile

from nicelevel.core import errors
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from tests import signals

SECONDS, RATE = 2.37, 48_000
FRAMES = round(SECONDS * RATE)

# How each is made by libsndfile: file name, container and subtype for it.
_BY_SOUNDFILE = {
    "wav.wav": ("WAV", "PCM_24"),
    "extensible.wav": ("WAVEX", "PCM_24"),
    "rf64.wav": ("RF64", "PCM_24"),
    "float.wav": ("WAV", "FLOAT"),
    "double.wav": ("WAV", "DOUBLE"),
    "w64.w64": ("W64", "PCM_24"),
    "aiff.aiff": ("AIFF", "PCM_24"),
    "float.aiff": ("AIFF", "FLOAT"),
    "caf.caf": ("CAF", "PCM_24"),
    "alac.caf": ("CAF", "ALAC_24"),
    "au.au": ("AU", "PCM_24"),
    "flac.flac": ("FLAC", "PCM_24"),
    "vorbis.ogg": ("OGG", "VORBIS"),
    "opus.opus": ("OGG", "OPUS"),
    "mp3.mp3": ("MP3", "MPEG_LAYER_III"),
}
# And by ffmpeg: file name and its codec.
_BY_FFMPEG = {
    "lame.mp3": ["libmp3lame", "-b:a", "128k"],
    "aac.m4a": ["aac", "-b:a", "160k"],
    "alac.m4a": ["alac"],
    "film.mov": ["pcm_s24le"],
    "film.mkv": ["flac"],
    "opus.mkv": ["libopus"],
    "vorbis5.ogg": ["libvorbis"],
}
_EXPECTED = {
    "wav.wav": ("wav", "pcm_24", 24),
    "extensible.wav": ("wav", "pcm_24", 24),
    "rf64.wav": ("rf64", "pcm_24", 24),
    "float.wav": ("wav", "float_32", None),
    "double.wav": ("wav", "float_64", None),
    "w64.w64": ("w64", "pcm_24", 24),
    "aiff.aiff": ("aiff", "pcm_24", 24),
    "float.aiff": ("aiff", "float_32", None),
    "caf.caf": ("caf", "pcm_24", 24),
    "alac.caf": ("caf", "alac", 24),
    "au.au": ("au", "pcm_24", 24),
    "flac.flac": ("flac", "flac", 24),
    "vorbis.ogg": ("ogg", "vorbis", None),
    "opus.opus": ("ogg", "opus", None),
    "mp3.mp3": ("mp3", "mp3", None),
    "lame.mp3": ("mp3", "mp3", None),
    "aac.m4a": ("m4a", "aac", None),
    "alac.m4a": ("m4a", "alac", 24),
    "film.mov": ("mov", "pcm_24", 24),
    "film.mkv": ("mkv", "flac", 24),
    "opus.mkv": ("mkv", "opus", None),
    "vorbis5.ogg": ("ogg", "vorbis", None),
}
_LOSSLESS = [name for name, (_, encoding, _) in _EXPECTED.items() if encoding not in ("vorbis", "opus", "mp3", "aac")]


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """One programme in every format."""
    made = tmp_path_factory.mktemp("formats")
    signal = np.round(0.3 * signals.programme(SECONDS, RATE, seed=4) * 2**23) / 2**23
    for name, (container, subtype) in _BY_SOUNDFILE.items():
        soundfile.write(made / name, signal, RATE, subtype, format=container)
    surround = signals.write(made / "surround.wav", signals.programme(SECONDS, RATE, 6, seed=5), format="WAVEX")
    for name, codec in _BY_FFMPEG.items():
        source = surround if name == "vorbis5.ogg" else made / "wav.wav"
        ffmpeg("-i", str(source), "-c:a", *codec, str(made / name))
    return made


def ffmpeg(*arguments):
    subprocess.run(["ffmpeg", "-y", "-loglevel", "error", *arguments], check=True)


def probe(path):
    command = ["ffprobe", "-v", "error", "-select_streams", "a:0", "-show_streams", "-of", "json", str(path)]
    return json.loads(subprocess.run(command, capture_output=True, check=True).stdout)["streams"][0]


@pytest.mark.parametrize("name", _EXPECTED)
def test_facts_are_those_of_ffprobe(folder, name):
    with take_in(folder / name) as audio:
        source = audio.source
    container, encoding, bits = _EXPECTED[name]
    assert (source.container, source.encoding, source.bits_declared) == (container, encoding, bits)
    theirs = probe(folder / name)
    assert source.sample_rate_hz == int(theirs["sample_rate"])
    assert source.channels == theirs["channels"]
    assert theirs["codec_name"].startswith(encoding.replace("pcm_24", "pcm_s24").replace("float_", "pcm_f"))
    if bits:
        assert bits == int(theirs.get("bits_per_raw_sample") or theirs["bits_per_sample"])
    if "bit_rate" in theirs and name in ("mp3.mp3", "lame.mp3", "aac.m4a", "alac.m4a"):
        assert source.bitrate_kbps == pytest.approx(int(theirs["bit_rate"]) / 1000, rel=0.03)


@pytest.mark.parametrize("name", _EXPECTED)
def test_length_is_exact_without_delay_and_padding(folder, name):
    with take_in(folder / name) as audio:
        assert audio.source.frames == pytest.approx(FRAMES, abs=0 if name != "opus.mkv" else 400)
        assert sum(len(block) for block in audio.blocks(1_000)) == audio.source.frames


@pytest.mark.parametrize("name", _LOSSLESS)
def test_lossless_samples_come_exactly(folder, name):
    truth, _ = soundfile.read(folder / "wav.wav", always_2d=True)
    with take_in(folder / name) as audio:
        samples = np.concatenate(list(audio.blocks(777)))
    assert np.array_equal(samples.astype(np.float64), truth)


def test_lossy_files_line_up_with_what_they_were_made_of(folder):
    truth, _ = soundfile.read(folder / "wav.wav", always_2d=True)
    for name in ("mp3.mp3", "lame.mp3", "aac.m4a", "vorbis.ogg", "opus.opus"):
        with take_in(folder / name) as audio:
            samples = np.concatenate(list(audio.blocks(4_096)))
        middle = slice(20_000, 90_000)
        lags = range(-3, 4)
        matches = [np.vdot(np.roll(samples, lag, axis=0)[middle], truth[middle]) for lag in lags]
        assert lags[int(np.argmax(matches))] == 0, name


def test_surround_of_vorbis_comes_in_the_order_of_the_mask(folder):
    truth, _ = soundfile.read(folder / "surround.wav", always_2d=True)
    with take_in(folder / "vorbis5.ogg") as audio:
        assert audio.source.layout.name == "5.1"
        samples = np.concatenate(list(audio.blocks(4_096)))
    likeness = np.corrcoef(samples[20_000:80_000].T, truth[20_000:80_000].T)[:6, 6:]
    assert list(np.argmax(likeness, axis=1)[[0, 1, 2, 4, 5]]) == [0, 1, 2, 4, 5]


def test_layouts_stated_by_other_containers(folder, tmp_path):
    ffmpeg("-i", str(folder / "surround.wav"), "-channel_layout", "5.1", "-c:a", "alac", str(tmp_path / "a.m4a"))
    reading = measure(tmp_path / "a.m4a")
    assert reading.source.layout.name == "5.1"
    assert "layout_assumed" not in [note.code for note in reading.notes]


def test_what_is_no_audio_inside_a_known_container_is_said(tmp_path):
    ffmpeg("-f", "lavfi", "-i", "color=size=64x64:duration=1", "-an", str(tmp_path / "silent film.mp4"))
    with pytest.raises(errors.NotAudioError, match="no audio stream"):
        measure(tmp_path / "silent film.mp4")


@pytest.mark.parametrize("name", ["w64.w64", "caf.caf", "au.au"])
def test_truncation_is_seen_in_every_plain_container(folder, tmp_path, name):
    path = tmp_path / name
    path.write_bytes((folder / name).read_bytes()[:100_000])
    with pytest.raises(errors.TruncatedError):
        measure(path)


@pytest.mark.parametrize("name", ["aac.m4a", "film.mkv", "mp3.mp3", "vorbis.ogg"])
def test_half_of_a_coded_file_is_a_reading_or_a_sentence(folder, tmp_path, name):
    path = tmp_path / name
    data = (folder / name).read_bytes()
    path.write_bytes(data[: len(data) // 2])
    assert frames_or_error(path) < FRAMES


def frames_or_error(path):
    try:
        return measure(path).source.frames
    except errors.NiceLevelError:
        return 0


def test_a_playlist_that_poses_as_audio_opens_nothing(tmp_path):
    signals.write(tmp_path / "secret.wav", signals.noise(1))
    for text in ("ffconcat version 1.0\nfile secret.wav\n", "#EXTM3U\n#EXTINF:1,\nsecret.wav\n"):
        (tmp_path / "list.m4a").write_text(text)
        with pytest.raises(errors.NotAudioError):
            measure(tmp_path / "list.m4a")
