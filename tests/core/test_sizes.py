"""Sizes are told beforehand: exact for plain samples in any container."""

import pytest

from nicelevel.core.process import process
from nicelevel.core.specs import parse_spec
from tests import signals

WORDS = ("pcm_16", "pcm_24", "pcm_32", "float_32", "float_64")


@pytest.mark.parametrize("encoding", WORDS)
@pytest.mark.parametrize("container", ["wav", "aiff", "caf"])
@pytest.mark.parametrize(("channels", "frames"), [(1, 1001), (2, 1000), (6, 333)])
def test_plain_samples_take_just_what_was_said(tmp_path, container, encoding, channels, frames):
    path = signals.write(
        tmp_path / "mix.wav", 0.3 * signals.noise(1, -20, channels=channels)[:frames], format="WAVEX"
    )
    text = f'[spec]\nname = "x"\n[[formats]]\ncontainer = "{container}"\nencoding = "{encoding}"\n'
    (done,) = process(path, parse_spec(text, "x"), tmp_path / "out")
    assert done.plan.predicted.source.size_bytes == done.path.stat().st_size
