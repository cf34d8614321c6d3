"""What a source says about itself arrives, as far as its format has a place; ffprobe reads it too."""

import json
import struct
import subprocess

import mutagen
import numpy as np
import pytest
import soundfile
from mutagen.flac import FLAC, Picture

from nicelevel.core.digest import sha256_of
from nicelevel.core.files.metadata import read_metadata
from nicelevel.core.files.wave_chunks import Cue, append_chunks, cue_chunks, info_chunk, read_chunks
from nicelevel.core.measure import measure
from nicelevel.core.process import process
from nicelevel.core.specs import parse_spec
from tests import signals

TAGS = {
    "title": "Lamp room",
    "artist": "The keeper",
    "album": "Winter",
    "date": "2026",
    "genre": "Documentary",
    "comment": "Zwölf Stufen",
    "isrc": "XX0000000001",
}
PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c4890000000d49444154789c6360000002000001e221bc330000"
    "000049454e44ae426082"
)


def _spec(formats, level="all"):
    return parse_spec(
        f'[spec]\nname = "House"\n[loudness]\ntarget = -23.0\ntolerance = 0.5\n{formats}'
        f'[output]\nmetadata = "{level}"\n',
        "house",
    )


def _format(container, encoding="keep", more=""):
    return f'[[formats]]\ncontainer = "{container}"\nencoding = "{encoding}"\n{more}'


@pytest.fixture(autouse=True)
def out(tmp_path):
    (tmp_path / "out").mkdir()


@pytest.fixture
def tagged(tmp_path):
    """A FLAC file with tags and a front cover."""
    path = signals.write(tmp_path / "source.flac", signals.noise(2, -20))
    file = FLAC(path)
    for name, text in TAGS.items():
        file[name] = [text]
    picture = Picture()
    picture.type, picture.mime, picture.data = 3, "image/png", PNG
    file.add_picture(picture)
    file.save()
    return path


@pytest.fixture
def wave(tmp_path):
    """A Broadcast Wave file with a time reference, two cue points and LIST INFO (EBU Tech 3285)."""
    path = tmp_path / "source.wav"
    soundfile.write(path, signals.noise(2, -20), 48_000, "PCM_24")
    bext = bytearray(602) + b"A=PCM,F=48000,W=24\r\n"
    bext[:9] = b"Lamp room"
    struct.pack_into("<Q", bext, 338, 48_000 * 3_600)
    chunks = [*info_chunk({"title": "Lamp room", "artist": "The keeper"}), (b"bext", bytes(bext))]
    append_chunks(path, [*chunks, *cue_chunks([Cue(4_800, "door"), Cue(48_000, "sea")])])
    return path


KINDS = {
    "flac": _format("flac"),
    "mp3": _format("mp3", "mp3", "sample_rate = 44100\n"),
    "aac": _format("m4a", "aac"),
    "alac": _format("m4a", "alac"),
    "vorbis": _format("ogg", "vorbis"),
    "opus": _format("ogg", "opus"),
    "aiff": _format("aiff"),
}


@pytest.mark.parametrize("kind", KINDS)
def test_tags_and_artwork_arrive(tmp_path, tagged, kind):
    (done,) = process(tagged, _spec(KINDS[kind]), tmp_path / "out", replace=True)
    said = read_metadata(done.path)
    dropped = {"isrc"} if done.plan.output.container == "m4a" else set()
    assert said.tags == {name: text for name, text in TAGS.items() if name not in dropped}
    assert said.artwork == ("image/png", PNG)
    assert set(done.kept) == {*said.tags, "artwork"}
    assert set(done.dropped) == dropped
    assert done.proof.sha256 == sha256_of(done.path)
    assert done.proof.verdict.meets


@pytest.mark.parametrize("kind", ["mp3", "aac", "vorbis"])
def test_ffprobe_reads_the_tags(tmp_path, tagged, kind):
    (done,) = process(tagged, _spec(KINDS[kind]), tmp_path / "out", replace=True)
    command = ["ffprobe", "-v", "error", "-show_format", "-show_streams", "-of", "json", done.path]
    found = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    tags = {**found["format"].get("tags", {}), **found["streams"][0].get("tags", {})}
    lower = {name.lower(): text for name, text in tags.items()}
    assert (lower["title"], lower["artist"]) == ("Lamp room", "The keeper")


def test_wave_carries_bext_cues_and_info_at_another_rate(tmp_path, wave):
    spec = _spec(_format("wav", "pcm_16", "sample_rate = 44100\n"))
    (done,) = process(wave, spec, tmp_path / "out", replace=True)
    assert [(cue.frame, cue.name) for cue in read_metadata(done.path).cues] == [(4_410, "door"), (44_100, "sea")]
    bext = read_chunks(done.path, (b"bext",))[b"bext"]
    assert bext[:9] == b"Lamp room"
    assert bext[602:] == b"A=PCM,F=48000,W=24\r\n"
    assert struct.unpack_from("<QH", bext, 338) == (44_100 * 3_600, 2)
    read = measure(done.path)
    loudness, range_lu, true_peak, momentary, short_term = np.array(struct.unpack_from("<5h", bext, 412)) / 100
    assert loudness == pytest.approx(read.integrated_lufs, abs=0.0051)
    assert true_peak == pytest.approx(read.true_peak_dbtp, abs=0.0051)
    assert momentary == pytest.approx(read.max_momentary_lufs, abs=0.0051)
    # Two seconds have no range and no loudest three: the value that means unknown.
    assert (range_lu, short_term) == pytest.approx((327.67, 327.67))
    assert done.proof.sha256 == sha256_of(done.path)
    assert {"title", "artist", "bext", "2 cue points"} == set(done.kept)


def test_others_read_a_wave_file_with_chunks_behind_its_samples(tmp_path, wave):
    (done,) = process(wave, _spec(_format("wav")), tmp_path / "out", replace=True)
    assert soundfile.info(done.path).frames == 96_000
    command = ["ffprobe", "-v", "error", "-show_format", "-of", "json", done.path]
    tags = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)["format"]["tags"]
    assert tags["title"] == "Lamp room"
    assert int(tags["time_reference"]) == 48_000 * 3_600
    size = struct.unpack("<I", done.path.read_bytes()[4:8])[0]
    assert size + 8 == done.path.stat().st_size


def test_tags_alone_leave_the_rest(tmp_path, wave):
    (done,) = process(wave, _spec(_format("wav"), "tags"), tmp_path / "out", replace=True)
    assert set(done.kept) == {"title", "artist"}
    assert set(done.dropped) == {"bext", "2 cue points"}
    assert b"bext" not in read_chunks(done.path, (b"bext",))


def test_none_leaves_all(tmp_path, tagged):
    (done,) = process(tagged, _spec(_format("flac"), "none"), tmp_path / "out", replace=True)
    assert done.kept == ()
    assert set(done.dropped) == {*TAGS, "artwork"}
    assert not mutagen.File(done.path).tags


def test_what_a_format_has_no_place_for_is_listed(tmp_path, tagged):
    (done,) = process(tagged, _spec(_format("caf", "pcm_24")), tmp_path / "out", replace=True)
    assert done.kept == ()
    assert set(done.dropped) == {*TAGS, "artwork"}


def test_a_source_whose_tags_are_damaged_is_rendered_without_them(tmp_path, wave):
    data = bytearray(wave.read_bytes())
    at = data.index(b"cue ")
    struct.pack_into("<I", data, at + 8, 4_000_000_000)
    wave.write_bytes(data)
    (done,) = process(wave, _spec(_format("wav")), tmp_path / "out", replace=True)
    assert done.proof.verdict.meets


def test_the_same_input_gives_the_same_bytes_with_its_metadata(tmp_path, tagged):
    digests = set()
    for _ in range(2):
        (done,) = process(tagged, _spec(KINDS["vorbis"]), tmp_path / "out", replace=True)
        digests.add(done.proof.sha256)
    assert len(digests) == 1
