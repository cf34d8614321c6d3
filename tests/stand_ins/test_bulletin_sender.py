"""The stand-in that sends bulletins: what it writes, right and with each fault."""

import pytest
import soundfile
from click.testing import CliRunner

from nicelevel.stand_ins.bulletin_sender.__main__ import main
from nicelevel.stand_ins.bulletin_sender.sender import PIECES, send
from tests import signals


@pytest.fixture
def data(tmp_path):
    return signals.write(tmp_path / "source.wav", signals.noise(1)).read_bytes()


def test_it_grows_over_the_time_that_it_takes(tmp_path, data):
    sizes, waited = [], []

    def looked(seconds):
        waited.append(seconds)
        sizes.append((tmp_path / "b.wav").stat().st_size)

    path = send(data, tmp_path, "b.wav", 10.0, sleep=looked)
    assert path.read_bytes() == data
    assert sum(waited) == pytest.approx(10.0, rel=0.1)
    assert len(sizes) >= PIECES
    assert sizes == sorted(set(sizes))


def test_each_fault_is_what_it_says(tmp_path, data):
    def sent(fault, **more):
        return send(data, tmp_path, f"{fault}.wav", 1.0, fault, **({"sleep": lambda _: None} | more))

    assert sent("cut").read_bytes() == data[: len(data) // 2]
    assert b"not ready" in sent("text").read_bytes()
    silent, _ = soundfile.read(sent("silent"))
    assert len(silent) == 48_000
    assert not silent.any()
    assert sent("twice").read_bytes() == data
    waits = []
    assert sent("late", sleep=waits.append).read_bytes() == data
    assert waits[0] == 1.0
    names = []
    sent("renamed", sleep=lambda _: names.append((tmp_path / "renamed.wav").exists()))
    assert not any(names)
    assert (tmp_path / "renamed.wav").read_bytes() == data
    assert not list(tmp_path.glob(".*"))


def test_it_is_a_program_of_its_own(tmp_path, data):
    (tmp_path / "in").mkdir()
    arguments = [
        str(tmp_path / "source.wav"),
        str(tmp_path / "in"),
        "--times",
        "2",
        "--every-s",
        "0",
        "--over-s",
        "0",
    ]
    done = CliRunner().invoke(main, [*arguments, "--fault", "text"], catch_exceptions=False)
    assert done.exit_code == 0
    assert (tmp_path / "in" / "bulletin 1.wav").read_bytes() == data
    assert (tmp_path / "in" / "bulletin 2.wav").read_bytes() != data
