"""Writing where it goes wrong, and twice: one sentence and nothing left behind; the same bytes from every process."""

import os
import subprocess
import sys

import pytest

from nicelevel.core.errors import NiceLevelError, NoSpaceError
from nicelevel.core.process import process
from nicelevel.core.specs import parse_spec
from tests import signals

SPEC = """
[spec]
name = "Full"
source = "house rule"
[loudness]
measure = "integrated"
target = -20.0
tolerance = 1.0
[output]
metadata = "tags"
[[formats]]
container = "{container}"
encoding = "{encoding}"
sample_rate = 48000
"""
FORMATS = {
    "wav": ("wav", "pcm_24"),
    "aiff": ("aiff", "pcm_24"),
    "caf": ("caf", "pcm_24"),
    "flac": ("flac", "flac"),
    "alac": ("m4a", "alac"),
    "mp3": ("mp3", "mp3"),
    "aac": ("m4a", "aac"),
    "vorbis": ("ogg", "vorbis"),
    "opus": ("ogg", "opus"),
    "ac3": ("ac3", "ac3"),
}


@pytest.fixture(scope="module")
def small_disk(tmp_path_factory):
    """A file system of its own with 64 KiB."""
    place = tmp_path_factory.mktemp("small")
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", str(place)], capture_output=True)
    if mounted.returncode:
        pytest.skip("a file system can only be mounted by the system's owner")
    yield place
    subprocess.run(["umount", str(place)], check=True)


@pytest.mark.parametrize("name", FORMATS)
def test_a_full_disk_is_said_and_leaves_nothing(tmp_path, small_disk, name):
    container, encoding = FORMATS[name]
    mix = signals.write(tmp_path / "mix.wav", signals.noise(12, -25.0))
    spec = parse_spec(SPEC.format(container=container, encoding=encoding), "full")
    before = mix.read_bytes()
    with pytest.raises(NoSpaceError, match="mix_full"):
        process(mix, spec, small_disk)
    assert list(small_disk.iterdir()) == []
    assert mix.read_bytes() == before


def test_an_output_folder_that_goes_away_is_said(tmp_path, monkeypatch):
    folder = tmp_path / "out"
    mix = signals.write(tmp_path / "mix.wav", signals.noise(12, -25.0))
    spec = parse_spec(SPEC.format(container="wav", encoding="pcm_24"), "full")

    def take_away(ratio):
        if ratio > 0.5 and folder.exists():
            for each in folder.iterdir():
                each.unlink()
            folder.rmdir()

    with pytest.raises(NiceLevelError) as raised:
        process(mix, spec, folder, progress=take_away)
    assert raised.value.code in ("not_found", "no_permission")
    assert not folder.exists()


@pytest.mark.parametrize("name", ["wav", "flac", "alac", "mp3", "aac", "vorbis", "opus", "ac3"])
def test_another_process_writes_the_same_bytes(tmp_path, name):
    """Nothing of a file comes from the process that wrote it: no time, no address, no order of a set."""
    container, encoding = FORMATS[name]
    mix = signals.write(tmp_path / "mix.wav", signals.noise(3, -25.0))
    text = SPEC.format(container=container, encoding=encoding)
    (tmp_path / "full.toml").write_text(text)
    (here,) = process(mix, parse_spec(text, "full"), tmp_path / "here")
    command = [sys.executable, "-m", "nicelevel.cli.main", "render", str(mix), "--spec", str(tmp_path / "full.toml")]
    subprocess.run(
        [*command, "--out", str(tmp_path / "there"), "--json"],
        check=True,
        capture_output=True,
        env={**os.environ, "PYTHONHASHSEED": "77", "TZ": "Pacific/Auckland"},
    )
    assert (tmp_path / "there" / here.path.name).read_bytes() == here.path.read_bytes()
