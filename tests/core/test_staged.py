"""A name is given once, to a whole file: also beside a second maker, a planted link, a system without hard links."""

import errno
import os
import signal
import subprocess
import sys

import pytest

from nicelevel.core import errors
from nicelevel.core.files import StagedFile, staged
from nicelevel.core.files.staged import sweep_parts

MAKE_AND_WAIT = """
import sys, pathlib
from nicelevel.core.files import StagedFile
made = StagedFile(pathlib.Path(sys.argv[1]))
made.path.write_bytes(b"half")
print("made", flush=True)
sys.stdin.read()
"""


@pytest.fixture
def other_maker(tmp_path):
    """Another process that is at work on mix.wav."""
    command = [sys.executable, "-c", MAKE_AND_WAIT, str(tmp_path / "mix.wav")]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert process.stdout.readline() == b"made\n"
    yield process
    process.kill()
    process.communicate()


def _names(folder):
    return sorted(path.name for path in folder.iterdir())


def test_a_second_maker_of_a_name_is_told(other_maker, tmp_path):
    with pytest.raises(errors.OutputExistsError, match="being written by another command"):
        StagedFile(tmp_path / "mix.wav")
    StagedFile(tmp_path / "mix2.wav").discard()


def test_a_maker_that_stands_still_keeps_its_name(other_maker, tmp_path):
    other_maker.send_signal(signal.SIGSTOP)
    with pytest.raises(errors.OutputExistsError):
        StagedFile(tmp_path / "mix.wav")
    other_maker.send_signal(signal.SIGCONT)


def test_what_a_killed_maker_left_is_swept_by_the_next(other_maker, tmp_path):
    other_maker.kill()
    other_maker.wait()
    assert len(_names(tmp_path)) == 1
    made = StagedFile(tmp_path / "mix.wav")
    made.path.write_bytes(b"whole")
    made.publish()
    assert _names(tmp_path) == ["mix.wav"]


def test_sweeping_a_folder_leaves_what_is_at_work(other_maker, tmp_path):
    (tmp_path / ".old.wav.0123456789ab.part").write_bytes(b"half")
    assert sweep_parts(tmp_path) == 1
    assert len(_names(tmp_path)) == 1


def test_a_link_under_a_temporary_name_is_not_followed(tmp_path, monkeypatch):
    (tmp_path / "precious").write_bytes(b"precious")
    monkeypatch.setattr(staged.secrets, "token_hex", lambda size: "known")
    (tmp_path / ".mix.wav.known.part").symlink_to(tmp_path / "precious")
    made = StagedFile(tmp_path / "mix.wav")
    made.path.write_bytes(b"whole")
    made.publish()
    assert (tmp_path / "precious").read_bytes() == b"precious"
    assert not (tmp_path / "mix.wav").is_symlink()


def _refuse(number):
    def refusing(*_, **__):
        raise OSError(number, os.strerror(number))

    return refusing


@pytest.fixture(params=["link", "rename", "claim"])
def without(request, monkeypatch):
    """A file system as ours, one without hard links (exFAT), and one whose renames cannot refuse either."""
    if request.param != "link":
        monkeypatch.setattr(staged.os, "link", _refuse(errno.EPERM))
    if request.param == "claim":
        monkeypatch.setattr(staged, "_rename_without_replacing", _refuse(errno.EINVAL))


def test_a_name_is_given_without_hard_links_too(without, tmp_path):
    made = StagedFile(tmp_path / "mix.wav")
    made.path.write_bytes(b"whole")
    assert made.publish().read_bytes() == b"whole"
    assert _names(tmp_path) == ["mix.wav"]


def test_a_taken_name_is_refused_without_hard_links_too(without, tmp_path):
    (tmp_path / "mix.wav").write_bytes(b"old")
    made = StagedFile(tmp_path / "mix.wav")
    made.path.write_bytes(b"new")
    with pytest.raises(errors.OutputExistsError):
        made.publish()
    made.discard()
    assert _names(tmp_path) == ["mix.wav"]
    assert (tmp_path / "mix.wav").read_bytes() == b"old"


@pytest.mark.parametrize(("number", "error"), [(errno.ENOSPC, errors.NoSpaceError), (errno.EROFS, None)])
def test_what_the_system_says_is_told(number, error, tmp_path, monkeypatch):
    made = StagedFile(tmp_path / "mix.wav")
    monkeypatch.setattr(staged.os, "link", _refuse(number))
    with pytest.raises(error or errors.NoPermissionError):
        made.publish()
