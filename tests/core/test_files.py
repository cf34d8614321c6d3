"""Taking files in: facts as written, a sentence for each fault, nothing changed."""

import struct

import numpy as np
import pytest
import soundfile

from nicelevel.core import errors
from nicelevel.core.channels import layout_from_count, layout_of_name
from nicelevel.core.digest import sha256_of
from nicelevel.core.files import StagedFile, open_sink, take_in
from nicelevel.core.files.codes import in_three_bytes
from nicelevel.core.files.containers import container_of, data_bytes
from nicelevel.core.files.headers import read_header
from nicelevel.core.files.names import deliverable_path, missed_name, packed_path, safe_name
from nicelevel.core.files.wave_header import wave_header
from nicelevel.core.measure import measure
from nicelevel.core.plan.formats import outputs_beside, resolve_format
from nicelevel.core.specs import parse_spec
from nicelevel.core.specs.library import shipped_toml
from nicelevel.core.values import OutputFormat
from tests import signals
from tests.core.measuring import source_of


def _source(path):
    with take_in(path) as audio:
        return audio.source


@pytest.mark.parametrize(
    ("name", "subtype", "container", "encoding", "bits"),
    [
        ("a.wav", "PCM_U8", "wav", "pcm_u8", 8),
        ("a.wav", "PCM_16", "wav", "pcm_16", 16),
        ("a.wav", "PCM_24", "wav", "pcm_24", 24),
        ("a.wav", "PCM_32", "wav", "pcm_32", 32),
        ("a.wav", "FLOAT", "wav", "float_32", None),
        ("a.wav", "DOUBLE", "wav", "float_64", None),
        ("a.aiff", "PCM_16", "aiff", "pcm_16", 16),
        ("a.aiff", "PCM_24", "aiff", "pcm_24", 24),
        ("a.flac", "PCM_16", "flac", "flac", 16),
        ("a.flac", "PCM_24", "flac", "flac", 24),
    ],
)
def test_facts_are_what_was_written(tmp_path, name, subtype, container, encoding, bits):
    path = signals.write(tmp_path / name, signals.noise(0.5, rate=44_100), 44_100, subtype)
    source = _source(path)
    assert (source.container, source.encoding, source.bits_declared) == (container, encoding, bits)
    assert (source.sample_rate_hz, source.channels, source.frames) == (44_100, 2, 22_050)
    assert source.size_bytes == path.stat().st_size
    assert (source.bitrate_kbps is None) == (container != "flac")


def test_rf64_is_read(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.noise(0.5), format="RF64")
    assert _source(path).container == "rf64"
    assert measure(path).integrated_lufs == pytest.approx(-20 + 3.0, abs=4)


@pytest.mark.parametrize(
    ("channels", "layout"), [(1, "mono"), (2, "stereo"), (6, "5.1"), (8, "7.1"), (10, "unknown")]
)
def test_layout_by_count_where_no_mask_says(tmp_path, channels, layout):
    path = signals.write(tmp_path / "a.wav", signals.noise(0.1, channels=channels))
    assert _source(path).layout.name == layout
    assert _source(path).layout.assumed == (channels in (6, 8))


def test_flac_states_its_layout(tmp_path):
    layout = _source(signals.write(tmp_path / "a.flac", signals.noise(0.1, channels=6))).layout
    assert layout.name == "5.1"
    assert not layout.assumed


@pytest.mark.parametrize("subtype", ["PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"])
@pytest.mark.parametrize("container", ["WAV", "RF64", "W64", "AIFF"])
@pytest.mark.parametrize("channels", [1, 2, 6])
def test_samples_come_exactly(tmp_path, subtype, container, channels):
    signal = signals.noise(0.3, -6, seed=8, channels=channels)
    path = signals.write(tmp_path / "a.wav", signal, subtype=subtype, format=container)
    truth, _ = soundfile.read(path, dtype="float64", always_2d=True)
    with take_in(path) as audio:
        blocks = np.concatenate(list(audio.blocks(1000)))
    assert np.array_equal(blocks.astype(np.float64), truth)


def test_peaks_above_full_scale_are_kept(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.sine(1000, 6, 0.5), subtype="FLOAT")
    assert measure(path).sample_peak_dbfs == pytest.approx(6.0, abs=0.01)


def _text(path):
    path.write_text("Dear engineer, here is the mix.")


def _truncated_wav(path):
    signals.write(path, signals.noise(1))
    path.write_bytes(path.read_bytes()[:100_000])


def _truncated_flac(path):
    signals.write(path, signals.noise(2), format="FLAC")
    path.write_bytes(path.read_bytes()[:200_000])


def _damaged_flac(path):
    signals.write(path, signals.noise(2), format="FLAC")
    data = bytearray(path.read_bytes())
    data[200_000:200_100] = bytes(100)
    path.write_bytes(data)


def _truncated_aiff(path):
    signals.write(path, signals.noise(1), format="AIFF")
    path.write_bytes(path.read_bytes()[:100_000])


def _not_a_number(path):
    signal = signals.noise(1)
    signal[24_000, 1] = np.nan
    signals.write(path, signal, subtype="FLOAT")


def _infinite(path):
    signal = signals.noise(1)
    signal[10, 0] = np.inf
    signals.write(path, signal, subtype="DOUBLE")


def _no_frames(path):
    signals.write(path, signals.silence(0))


def _header_only(path):
    path.write_bytes(b"RIFF\xff\xff\x00\x00WAVEfmt ")


def _mp3(path):
    path.write_bytes(b"ID3\x04\x00\x00\x00\x00\x00\x00" + b"\xff\xfb" * 100)


_FAULTS = {
    "text": (_text, errors.NotAudioError),
    "empty": (lambda path: path.touch(), errors.EmptyError),
    "no_frames": (_no_frames, errors.EmptyError),
    "truncated_wav": (_truncated_wav, errors.TruncatedError),
    "truncated_flac": (_truncated_flac, errors.TruncatedError),
    "damaged_flac": (_damaged_flac, errors.DamagedError),
    "truncated_aiff": (_truncated_aiff, errors.TruncatedError),
    "nan": (_not_a_number, errors.NonFiniteError),
    "infinite": (_infinite, errors.NonFiniteError),
    "header_only": (_header_only, errors.DamagedError),
    "mp3": (_mp3, errors.DamagedError),
    "missing": (lambda path: None, errors.NotFoundError),
    "folder": (lambda path: path.mkdir(), errors.NotAudioError),
}


@pytest.mark.parametrize("fault", _FAULTS)
def test_fault_is_named_in_one_sentence(tmp_path, fault):
    spoil, error = _FAULTS[fault]
    path = tmp_path / "mix.wav"
    spoil(path)
    with pytest.raises(error) as caught:
        measure(path)
    assert caught.value.message.endswith(".")
    assert "\n" not in caught.value.message


def test_truncation_says_where_it_ends_and_what_was_promised(tmp_path):
    _truncated_wav(tmp_path / "mix.wav")
    with pytest.raises(errors.TruncatedError, match=r"ends at 0\.347 s.*promises 1\.000 s"):
        measure(tmp_path / "mix.wav")


def test_a_streamed_header_without_a_size_is_read_to_the_end(tmp_path):
    """Common practice: recorders that cannot seek leave all ones in the sizes."""
    path = signals.write(tmp_path / "a.wav", signals.noise(0.5), subtype="PCM_16")
    data = bytearray(path.read_bytes())
    data[4:8] = data[40:44] = struct.pack("<I", 0xFFFFFFFF)
    path.write_bytes(data)
    assert _source(path).frames == 24_000


def test_one_frame_is_measured(tmp_path):
    reading = measure(signals.write(tmp_path / "a.wav", np.full((1, 2), 0.5)))
    assert reading.source.frames == 1
    assert reading.integrated_lufs == -np.inf
    assert reading.loudness_range_lu is None
    assert reading.sample_peak_dbfs == pytest.approx(-6.02, abs=0.01)


def test_measuring_changes_no_byte(tmp_path):
    path = signals.write(tmp_path / "a.wav", signals.noise(0.5))
    before = (sha256_of(path), path.stat().st_mtime_ns)
    measure(path)
    assert (sha256_of(path), path.stat().st_mtime_ns) == before


def _output(container, encoding, channels=2):
    return OutputFormat(container, encoding, 48_000, layout_from_count(channels), "tpdf")


@pytest.mark.parametrize("encoding", ["pcm_16", "pcm_24", "pcm_32", "float_32", "float_64"])
@pytest.mark.parametrize("channels", [1, 2, 6])
def test_wave_files_of_ours_read_back_exactly(tmp_path, encoding, channels):
    output = _output("wav", encoding, channels)
    bits = output.bits or 24
    codes = np.random.default_rng(1).integers(-(2 ** (bits - 1)), 2 ** (bits - 1), (999, channels))
    samples = codes.astype(np.int32) if output.bits else codes / 2**23
    path = tmp_path / "a.wav"
    sink = open_sink(path, output, len(samples))
    sink.write(samples[:500])
    sink.write(samples[500:])
    sink.close()
    found, rate = soundfile.read(path, dtype="float64", always_2d=True)
    assert rate == 48_000
    assert np.array_equal(found * 2 ** (bits - 1), codes)
    assert _source(path).layout == layout_from_count(channels) or _source(path).layout.name == "5.1"
    samples_bytes = data_bytes(output, len(samples))
    assert path.stat().st_size == len(wave_header(output, samples_bytes)) + samples_bytes + samples_bytes % 2


def test_wave_grows_into_rf64_past_4_gib(tmp_path):
    """EBU Tech 3306; 8 channels of 48 kHz 24 bit pass 4 GiB after 62 min 8 s (arithmetic)."""
    output = _output("wav", "pcm_24", 8)
    frames = 48_000 * (62 * 60 + 9)
    samples_bytes = data_bytes(output, frames)
    assert container_of(output, samples_bytes) == "rf64"
    assert container_of(output, data_bytes(output, frames - 10 * 48_000)) == "wav"
    path = tmp_path / "header.wav"
    path.write_bytes(wave_header(output, samples_bytes))
    with path.open("rb") as file:
        header = read_header(file, path.stat().st_size + samples_bytes)
    assert (header.container, header.promised_frames) == ("rf64", frames)
    with path.open("r+b") as file:
        file.truncate(path.stat().st_size + samples_bytes)  # sparse: takes no room
    assert soundfile.info(path).frames == frames


def test_a_staged_file_gets_its_name_only_when_published(tmp_path):
    staged = StagedFile(tmp_path / "mix.wav")
    staged.path.write_bytes(b"whole")
    assert not (tmp_path / "mix.wav").exists()
    assert staged.publish().read_bytes() == b"whole"
    assert [path.name for path in tmp_path.iterdir()] == ["mix.wav"]


def test_an_existing_output_is_refused_unless_replaced(tmp_path):
    (tmp_path / "mix.wav").write_bytes(b"old")
    staged = StagedFile(tmp_path / "mix.wav")
    staged.path.write_bytes(b"new")
    with pytest.raises(errors.OutputExistsError):
        staged.publish()
    assert (tmp_path / "mix.wav").read_bytes() == b"old"
    staged.publish(replace=True)
    assert (tmp_path / "mix.wav").read_bytes() == b"new"


@pytest.mark.parametrize(
    ("name", "safe"),
    [
        ("Keeper's Log, part 1", "Keeper's Log, part 1"),
        ("../../etc/passwd", ".._.._etc_passwd".strip(". ")),
        ("a\\b:c*d?", "a_b_c_d_"),
        ("CON", "_CON"),
        ("nul.wav", "_nul.wav"),
        ("  ... ", "untitled"),
        ("tab\there\x00", "tab_here_"),
    ],
)
def test_names_are_safe_everywhere(name, safe):
    assert safe_name(name) == safe


def test_long_names_are_cut_without_breaking_a_letter():
    assert len(safe_name("ü" * 300).encode()) <= 200


def test_a_long_title_gives_way_to_what_tells_files_apart():
    spec = parse_spec(shipped_toml("podcast"), "podcast")
    output = OutputFormat("wav", "pcm_24", 48_000, layout_from_count(2), "none")
    for title in ("x" * 400, "ü" * 250):
        path = deliverable_path(title, spec, output)
        assert path.name.endswith("_podcast.wav")
        assert len(path.name.encode()) <= 204


@pytest.mark.parametrize(
    ("pattern", "path", "inside"),
    [
        ("{title}", "mix.wav", "For_ the coast/mix.wav"),
        ("stems/{title}", "stems/mix.wav", "stems/mix.wav"),
        ("./{title}", "mix.wav", "mix.wav"),
    ],
)
def test_a_package_has_a_folder_for_each_destination_unless_the_pattern_has_a_place(pattern, path, inside):
    text = f'[spec]\nname = "For: the coast"\n[[formats]]\ncontainer = "wav"\n[output]\nname = "{pattern}"\n'
    spec = parse_spec(text, "coast")
    output = OutputFormat("wav", "pcm_16", 48_000, layout_of_name("stereo"), "none")
    name = str(deliverable_path("mix", spec, output))
    assert name == path
    assert packed_path(name, spec) == inside


def test_a_missed_name_says_so():
    assert missed_name("mix_podcast.wav") == "mix_podcast MISSES ITS SPEC.wav"


@pytest.mark.parametrize(
    ("pattern", "path"),
    [
        ("{title}_{spec}", "Night ferry v2_house.mp3"),
        ("{spec}/{codec}/{title}", "house/mp3/Night ferry v2.mp3"),
        ("{spec} {lufs} LUFS/v{version}/{channels}_{rate}_{bits}", "house -16 LUFS/v2/stereo_44100_lossy.mp3"),
        ("a\\\\b", "a/b.mp3"),
        ("con/{title}", "_con/Night ferry v2.mp3"),
        ("{title}./x", "Night ferry v2/x.mp3"),
    ],
)
def test_a_pattern_gives_the_path_and_its_folders(pattern, path):
    spec = _named(pattern)
    output = resolve_format(source_of(signals.silence(1), 48_000, None), spec.formats[0], spec)
    assert str(deliverable_path("Night ferry v2", spec, output)) == path


def test_a_title_makes_no_folders_and_leaves_none():
    spec = _named("{title}/{title}")
    output = resolve_format(source_of(signals.silence(1), 48_000, None), spec.formats[0], spec)
    for title in ("../../etc", "a/b", "..", "a\\b"):
        path = deliverable_path(title, spec, output)
        assert len(path.parts) == 2
        assert ".." not in path.parts


def test_formats_of_one_spec_never_share_a_name():
    """Each says what it has of its own; names that differ already stay as the pattern has them."""
    spec = parse_spec(
        '[spec]\nname = "House"\n'
        '[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\n'
        '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\nsample_rate = 44100\n'
        '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nbitrate_kbps = 320\n'
        '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nbitrate_kbps = 128\n'
        '[[formats]]\ncontainer = "flac"\n',
        "house",
    )
    outputs = outputs_beside(source_of(signals.silence(1), 48_000, None), spec)
    assert [str(deliverable_path("Mix", spec, each, outputs)) for each in outputs] == [
        "Mix_house_48k 24 bit.wav",
        "Mix_house_44.1k 16 bit.wav",
        "Mix_house_320 kbps.mp3",
        "Mix_house_128 kbps.mp3",
        "Mix_house.flac",
    ]
    longest = [deliverable_path("x" * 400, spec, each, outputs) for each in outputs]
    assert len(set(longest)) == len(outputs)
    assert max(len(path.stem) for path in longest) <= 200


def _named(pattern):
    return parse_spec(
        f'[spec]\nname = "House"\n[loudness]\ntarget = -16.0\ntolerance = 1.0\n[output]\nname = "{pattern}"\n'
        '[[formats]]\ncontainer = "mp3"\nencoding = "mp3"\nsample_rate = 44100\n',
        "house",
    )


@pytest.mark.parametrize("count", [0, 1, 3, 4, 7, 4096])
def test_words_of_three_bytes_are_what_is_left_of_four(count):
    """Little endian: the fourth byte is the sign, which the third one says too."""
    words = np.random.default_rng(3).integers(-(2**23), 2**23, count).astype("<i4")
    assert in_three_bytes(words) == b"".join(word.tobytes()[:3] for word in words)
