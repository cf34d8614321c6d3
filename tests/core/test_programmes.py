"""Programmes joined in one file, found in it and split again: bit for bit, read by libsndfile and by a chunk reader
of the tests' own; the description against the structure of ITU-R BS.2076-2 and BS.2088-1 (names of elements and
attributes from memory).
"""

import resource
import shutil
import struct
import subprocess
import sys
from xml.etree import ElementTree

import numpy as np
import pytest
import soundfile

from nicelevel.core.channels import layout_of_name
from nicelevel.core.errors import DamagedError, OutputExistsError, SpecError, TruncatedError, UnsupportedError
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from nicelevel.core.programmes import (
    PartError,
    Programme,
    join,
    measure_programme,
    programmes_of,
    programmes_of_map,
    split,
)
from nicelevel.core.programmes.adm import adm_chunks
from nicelevel.core.programmes.adm_read import programmes_of_adm
from tests import signals

RATE_HZ = 48_000
FIGURES = ("integrated_lufs", "loudness_range_lu", "true_peak_dbtp", "sample_peak_dbfs", "rms_dbfs", "bits_used")
EBU_CORE = "{urn:ebu:metadata-schema:ebuCore_2016}"


def chunks(path):
    """Every chunk of a small RIFF file: read without our code."""
    data = path.read_bytes()
    assert data[:4] == b"RIFF"
    assert data[8:12] == b"WAVE"
    assert struct.unpack_from("<I", data, 4)[0] == len(data) - 8
    found, at = {}, 12
    while at < len(data):
        name, size = struct.unpack_from("<4sI", data, at)
        found[name] = data[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
    return found


def whole_numbers(frames, channels, bits, seed):
    generator = np.random.default_rng(seed)
    return generator.integers(-(2 ** (bits - 1)), 2 ** (bits - 1), (frames, channels)).astype(np.int32)


def write_words(path, words, bits, rate_hz=RATE_HZ):
    subtype = {16: "PCM_16", 24: "PCM_24", 32: "PCM_32"}[bits]
    soundfile.write(path, words << (32 - bits), rate_hz, subtype)
    return path


@pytest.fixture
def three(tmp_path):
    """A 5.1 mix of 24 bits, a shorter stereo of 16, and one channel in FLAC; with the whole numbers in them."""
    words = [whole_numbers(9_600, 6, 24, 1), whole_numbers(7_001, 2, 16, 2), whole_numbers(9_600, 1, 16, 3)]
    names, bits = ("mix.wav", "for two.wav", "voice.flac"), (24, 16, 16)
    paths = [write_words(tmp_path / name, each, n) for name, each, n in zip(names, words, bits, strict=True)]
    return paths, words


def joined_words(words):
    """What a joined file must hold: 24 bits, the shorter ones silent at the end."""
    frames = max(map(len, words))
    shifts = (0, 8, 8)
    return np.concatenate(
        [np.pad(each << shift, ((0, frames - len(each)), (0, 0))) for each, shift in zip(words, shifts, strict=True)],
        axis=1,
    )


def test_a_joined_file_holds_every_sample_as_it_was(three, tmp_path):
    paths, words = three
    done = join(paths, tmp_path / "joined.wav")
    read, rate_hz = soundfile.read(done.path, dtype="int32")
    assert rate_hz == RATE_HZ
    assert np.array_equal(read >> 8, joined_words(words))
    data = np.frombuffer(chunks(done.path)[b"data"], np.uint8).reshape(-1, 3).astype(np.int32)
    by_hand = (data[:, 0] << 8 | data[:, 1] << 16 | data[:, 2] << 24) >> 8
    assert np.array_equal(by_hand.reshape(-1, 9), joined_words(words))
    assert done.output.encoding == "pcm_24"
    assert done.notes == ("for two.wav is shorter than the longest: 0.054 s of silence were added at its end.",)


def test_the_description_is_whole_and_leads_from_each_programme_to_its_channels(three, tmp_path):
    paths, _ = three
    join(paths, tmp_path / "joined.wav", ["Full & <mix>", "For two"])
    found = chunks(tmp_path / "joined.wav")
    tracks, uids = struct.unpack_from("<HH", found[b"chna"])
    assert (tracks, uids, len(found[b"chna"])) == (9, 9, 4 + 9 * 40)
    entries = [struct.unpack_from("<H12s14s11sx", found[b"chna"], 4 + 40 * n) for n in range(uids)]
    channel_of = {uid.decode(): channel for channel, uid, _, _ in entries}
    assert sorted(channel_of.values()) == list(range(1, 10))
    model = ElementTree.fromstring(found[b"axml"]).find(f".//{EBU_CORE}audioFormatExtended")
    by_id = {value: each for each in model for name, value in each.attrib.items() if name.endswith("ID")}

    def referred(element, name):
        return [each.text for each in element.findall(f"{EBU_CORE}{name}Ref")]

    told = []
    for programme in model.findall(f"{EBU_CORE}audioProgramme"):
        (content,) = referred(programme, "audioContentID")
        (held,) = referred(by_id[content], "audioObjectID")
        (pack,) = referred(by_id[held], "audioPackFormatID")
        uids = referred(by_id[held], "audioTrackUID")
        assert by_id[pack].get("typeDefinition") == "DirectSpeakers"
        speakers = []
        for uid, channel in zip(uids, referred(by_id[pack], "audioChannelFormatID"), strict=True):
            (track,) = referred(by_id[uid], "audioTrackFormatID")
            (stream,) = referred(by_id[track], "audioStreamFormatID")
            assert referred(by_id[stream], "audioChannelFormatID") == [channel]
            (label,) = by_id[channel].iter(f"{EBU_CORE}speakerLabel")
            speakers.append(label.text.rpartition(":")[2])
            assert (by_id[uid].get("sampleRate"), by_id[uid].get("bitDepth")) == ("48000", "24")
        told.append((programme.get("audioProgrammeName"), [channel_of[uid] for uid in uids], speakers))
        assert programme.get("end") == "00:00:00.20000"
    five = ["M+030", "M-030", "M+000", "LFE1", "M+110", "M-110"]
    assert told == [
        ("Full & <mix>", [1, 2, 3, 4, 5, 6], five),
        ("For two", [7, 8], ["M+030", "M-030"]),
        ("voice", [9], ["M+000"]),
    ]


def test_what_was_joined_is_split_into_what_it_was(three, tmp_path):
    paths, words = three
    join(paths, tmp_path / "joined.wav", ["Full mix", "For two", "Voice"])
    done = split(tmp_path / "joined.wav", tmp_path / "parts")
    assert [(each.programme.label, each.programme.layout.name) for each in done.parts] == [
        ("Full mix", "5.1"),
        ("For two", "stereo"),
        ("Voice", "mono"),
    ]
    assert done.notes == ()
    whole, at = joined_words(words), 0
    for part, each in zip(done.parts, words, strict=True):
        read, _ = soundfile.read(part.path, dtype="int32", always_2d=True)
        assert np.array_equal(read >> 8, whole[:, at : at + each.shape[1]])
        at += each.shape[1]
    assert measure(done.parts[0].path).source.layout.name == "5.1"


@pytest.mark.parametrize(
    ("kinds", "encoding"),
    [
        (("PCM_16", "PCM_16"), "pcm_16"),
        (("PCM_U8", "PCM_16"), "pcm_16"),
        (("PCM_16", "PCM_32"), "pcm_32"),
        (("PCM_24", "FLOAT"), "float_32"),
        (("PCM_32", "FLOAT"), "float_64"),
        (("FLOAT", "DOUBLE"), "float_64"),
    ],
)
def test_the_longest_word_holds_all_of_them_exactly(tmp_path, kinds, encoding):
    sounds = [signals.noise(0.1, seed=seed, channels=seed) for seed in (1, 2)]
    paths = [signals.write(tmp_path / f"{n}.wav", each, subtype=kinds[n]) for n, each in enumerate(sounds)]
    done = join(paths, tmp_path / "joined.wav")
    assert done.output.encoding == encoding
    read, _ = soundfile.read(done.path, dtype="float64")
    assert np.array_equal(read, np.concatenate([soundfile.read(each, always_2d=True)[0] for each in paths], axis=1))


def test_floating_point_over_full_scale_stays_as_it_is(tmp_path):
    path = signals.write(tmp_path / "hot.wav", 4.0 * signals.noise(0.1, -3.0), subtype="FLOAT")
    done = join([path], tmp_path / "joined.wav")
    assert np.array_equal(soundfile.read(done.path)[0], soundfile.read(path)[0])
    assert np.abs(soundfile.read(path)[0]).max() > 4.0


def test_other_rates_too_many_channels_and_cut_files_are_told_by_the_file_at_fault(tmp_path):
    first = signals.write(tmp_path / "a.wav", signals.noise(0.1))
    slower = signals.write(tmp_path / "b.wav", signals.noise(0.1, rate=44_100), rate=44_100)
    with pytest.raises(PartError, match="It has 44100 Hz, the first file 48000 Hz") as caught:
        join([first, slower], tmp_path / "out.wav")
    assert (caught.value.number, type(caught.value.error)) == (1, UnsupportedError)
    many = signals.write(tmp_path / "many.wav", np.zeros((100, 127)))
    with pytest.raises(PartError, match="129 channels; one file holds at most 128"):
        join([first, many], tmp_path / "out.wav")
    cut = tmp_path / "cut.wav"
    cut.write_bytes(first.read_bytes()[:-5_000])
    with pytest.raises(PartError) as caught:
        join([first, cut], tmp_path / "out.wav")
    assert (caught.value.number, type(caught.value.error)) == (1, TruncatedError)
    assert sorted(each.name for each in tmp_path.iterdir()) == ["a.wav", "b.wav", "cut.wav", "many.wav"]


def test_nothing_is_written_over_and_of_parts_that_clash_none_is_left(three, tmp_path):
    paths, _ = three
    join(paths, tmp_path / "joined.wav")
    with pytest.raises(OutputExistsError):
        join(paths, tmp_path / "joined.wav")
    parts = tmp_path / "parts"
    parts.mkdir()
    (parts / "for two.wav").write_bytes(b"mine")
    with pytest.raises(OutputExistsError):
        split(tmp_path / "joined.wav", parts)
    assert [each.name for each in parts.iterdir()] == ["for two.wav"]
    assert (parts / "for two.wav").read_bytes() == b"mine"


def test_a_joined_file_brings_its_programmes_into_the_next(three, tmp_path):
    paths, _ = three
    first = join(paths, tmp_path / "first.wav", ["Full mix", "For two", "Voice"])
    second = join([paths[2], first.path], tmp_path / "second.wav")
    told = [(each.label, each.channels, number) for each, number in second.programmes]
    assert told == [
        ("voice", (1,), 0),
        ("Full mix", (2, 3, 4, 5, 6, 7), 1),
        ("For two", (8, 9), 1),
        ("Voice", (10,), 1),
    ]
    assert programmes_of(second.path).programmes == tuple(each for each, _ in second.programmes)


def test_all_layouts_come_back_as_they_went(tmp_path):
    names = ("mono", "stereo", "3.0", "4.0", "5.0", "5.1", "7.1", "5.1.2", "5.1.4", "7.1.2", "7.1.4")
    programmes, done = [], 0
    for name in names:
        layout = layout_of_name(name)
        channels = tuple(range(done + 1, done + 1 + len(layout.positions)))
        programmes.append(Programme(name, channels, layout))
        done += len(channels)
    found = dict(adm_chunks(programmes, RATE_HZ, (0, 480), 24))
    read = programmes_of_adm(found[b"axml"], found[b"chna"])
    assert [(each.label, each.channels) for each in read] == [(each.label, each.channels) for each in programmes]
    assert [each.layout.positions for each in read] == [each.layout.positions for each in programmes]
    assert [each.layout.name for each in read] == list(names)


COMMON = """<?xml version="1.0"?>
<audioFormatExtended>
  <audioProgramme audioProgrammeID="APR_1001" audioProgrammeName="Main">
    <audioContentIDRef>ACO_1001</audioContentIDRef>
  <audioContentIDRef>ACO_1002</audioContentIDRef></audioProgramme>
  <audioProgramme audioProgrammeID="APR_1002" audioProgrammeName="Empty"/>
  <audioContent audioContentID="ACO_1001"><audioObjectIDRef>AO_1001</audioObjectIDRef></audioContent>
  <audioContent audioContentID="ACO_1002"><audioObjectIDRef>AO_1002</audioObjectIDRef></audioContent>
  <audioObject audioObjectID="AO_1001"><audioObjectIDRef>AO_1001</audioObjectIDRef>
    <audioTrackUIDRef>ATU_00000001</audioTrackUIDRef><audioTrackUIDRef>ATU_00000002</audioTrackUIDRef></audioObject>
  <audioObject audioObjectID="AO_1002"><audioTrackUIDRef>ATU_00000003</audioTrackUIDRef>
    <audioTrackUIDRef>ATU_00000099</audioTrackUIDRef></audioObject>
</audioFormatExtended>"""


def _chna(*entries):
    packed = [
        struct.pack("<H12s14s11sx", channel, uid.encode(), track.encode(), b"AP_00010002")
        for channel, uid, track in entries
    ]
    return struct.pack("<HH", len(packed), len(packed)) + b"".join(packed)


def test_common_definitions_and_objects_in_circles_are_read():
    entries = [(n, f"ATU_0000000{n}", f"AT_0001000{n}_01") for n in (1, 2, 3)]
    (found,) = programmes_of_adm(COMMON.encode(), _chna(*entries, (0, "", "")))
    assert (found.label, found.channels, found.layout.positions) == ("Main", (1, 2, 3), ("L", "R", "C"))
    assert found.layout.name == "3.0"


@pytest.mark.parametrize(
    ("axml", "chna"), [(b"<audio", _chna()), (b"", _chna()), (COMMON.encode(), b"\1"), (COMMON.encode(), b"\1\0\1\0")]
)
def test_a_broken_description_is_damaged(axml, chna):
    with pytest.raises(DamagedError):
        programmes_of_adm(axml, chna)


def test_a_broken_description_is_said_and_the_count_decides(three, tmp_path):
    paths, _ = three
    path = join([paths[0]], tmp_path / "joined.wav").path
    path.write_bytes(path.read_bytes().replace(b"</ebuCoreMain>", b"</ebuCoreMadn>"))
    found = programmes_of(path)
    assert [each.layout.name for each in found.programmes] == ["5.1"]
    assert "XML that cannot be read" in found.notes[0]
    assert "by the mask of its channels it is one, 5.1" in found.notes[1]


def test_a_map_is_read_as_it_is_typed():
    told = programmes_of_map("1-6 Full mix, 7-8  Stereo,9 Voice, 10-11")
    assert [(each.label, each.channels, each.layout.name) for each in told] == [
        ("Full mix", (1, 2, 3, 4, 5, 6), "5.1"),
        ("Stereo", (7, 8), "stereo"),
        ("Voice", (9,), "mono"),
        ("Channels 10-11", (10, 11), "stereo"),
    ]


@pytest.mark.parametrize("text", ["", "mix", "6-1 Mix", "0 Mix", "1-6 Mix,,7 A", "1-129 Mix", "-1 Mix", "1–6 Mix"])
def test_a_map_that_cannot_be_read_is_said(text):
    with pytest.raises(SpecError):
        programmes_of_map(text)


def test_a_map_names_files_that_every_system_takes(tmp_path):
    path = signals.write(tmp_path / "four.wav", signals.noise(0.05, channels=4))
    done = split(path, tmp_path / "parts", programmes_of_map(f"1 A/B,2 a_b,3 {'long ' * 80},4 {'long ' * 80}"))
    names = [each.path.name for each in done.parts]
    assert names[:2] == ["A_B.wav", "a_b 2.wav"]
    assert len({name.casefold() for name in names}) == 4
    assert max(len(name) for name in names) <= 255
    read = [soundfile.read(each.path)[0] for each in done.parts]
    assert np.array_equal(np.stack(read, axis=1), soundfile.read(path)[0])


def test_what_nobody_names_goes_by_the_count_with_a_note(tmp_path):
    eight = signals.write(tmp_path / "eight.wav", signals.noise(0.05, channels=8))
    found = programmes_of(eight)
    assert [each.layout.name for each in found.programmes] == ["7.1"]
    assert '"1-6 Full mix,7-8 Stereo"' in found.notes[0]
    mapped = split(eight, tmp_path / "parts", programmes_of_map("1-6 Full mix"))
    assert mapped.notes == ("Channels 7 and 8 belong to none.",)
    five = signals.write(tmp_path / "five.wav", signals.noise(0.05, channels=5))
    found = programmes_of(five)
    assert [each.channels for each in found.programmes] == [(1,), (2,), (3,), (4,), (5,)]
    assert "says what its 5 channels are" in found.notes[0]
    with pytest.raises(UnsupportedError, match="There is no channel 6: it has 5"):
        split(five, tmp_path / "parts", programmes_of_map("1-6 Full mix"))


def test_each_channel_alone(three, tmp_path):
    paths, words = three
    done = split(paths[0], tmp_path / "parts", is_each=True)
    assert [each.path.name for each in done.parts] == [
        f"Full mix {at}.wav" for at in ("L", "R", "C", "LFE", "Ls", "Rs")
    ]
    read = [soundfile.read(each.path, dtype="int32")[0] >> 8 for each in done.parts]
    assert np.array_equal(np.stack(read, axis=1), words[0])


def test_a_programme_is_measured_as_a_file_that_holds_nothing_else(tmp_path):
    mix = signals.write(tmp_path / "mix.wav", signals.programme(6, channels=6, seed=4))
    pair = signals.write(tmp_path / "pair.wav", signals.programme(6, seed=5), subtype="PCM_16")
    whole = join([mix, pair], tmp_path / "joined.wav").path
    for path, programme in zip((mix, pair), programmes_of(whole).programmes, strict=True):
        alone, inside = measure(path), measure_programme(whole, programme)
        for name in (
            "integrated_lufs",
            "loudness_range_lu",
            "true_peak_dbtp",
            "sample_peak_dbfs",
            "rms_dbfs",
            "bits_used",
        ):
            assert getattr(inside, name) == pytest.approx(getattr(alone, name), abs=1e-9), name
        assert inside.source.layout.positions == alone.source.layout.positions


ROOM_BYTES = 12_000_000_000

LARGE = """
import sys
from pathlib import Path
from nicelevel.core.programmes import join
folder = Path(sys.argv[1])
join([folder / "a.wav", folder / "b.wav"], folder / "joined.wav")
# Of this program alone: what getrusage says begins with what the program that started it took.
print(next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM")))
"""


def test_past_four_gib_it_is_a_bw64_in_bounded_memory(tmp_path):
    """Two files of 2.5 GiB, mostly holes on the disk; what is joined is not."""
    if resource.getrlimit(resource.RLIMIT_FSIZE)[0] not in (-1, resource.RLIM_INFINITY):
        pytest.skip("no file may be so large here")
    if shutil.disk_usage(tmp_path).free < ROOM_BYTES:
        pytest.skip("there is no room for a file of 5 GiB")
    frames = 5 * 2**30 // (4 * 16)
    for name, seed in (("a.wav", 1), ("b.wav", 2)):
        head = signals.write(tmp_path / name, signals.noise(1, channels=8, seed=seed), subtype="FLOAT")
        with head.open("r+b") as file:
            data_at = head.read_bytes().index(b"data")
            end = data_at + 8 + frames * 32
            file.truncate(end)
            file.seek(data_at + 4)
            file.write(struct.pack("<I", frames * 32))
            file.seek(4)
            file.write(struct.pack("<I", end - 8))
    done = subprocess.run([sys.executable, "-c", LARGE, tmp_path], capture_output=True, text=True, check=True)
    assert int(done.stdout) < 400_000
    path = tmp_path / "joined.wav"
    with path.open("rb") as file:
        magic, size, kind, ds64, _, riff_bytes, data_bytes, samples, _ = struct.unpack("<4sI4s4sIQQQI", file.read(48))
    assert (magic, size, kind, ds64) == (b"BW64", 0xFFFFFFFF, b"WAVE", b"ds64")
    assert riff_bytes == path.stat().st_size - 8
    assert (data_bytes, samples) == (frames * 64, frames)
    assert [each.layout.name for each in programmes_of(path).programmes] == ["7.1", "7.1"]
    with take_in(path) as audio:
        assert audio.source.frames == frames
        for name, channels in (("a.wav", slice(0, 8)), ("b.wav", slice(8, 16))):
            expected, _ = soundfile.read(tmp_path / name, frames=1_000)
            assert np.array_equal(audio.window(0, 1_000)[:, channels], expected)
    path.unlink()
