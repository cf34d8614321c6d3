"""A piece from anywhere is what the whole has there: prepared, levelled, limited."""

import numpy as np
import pytest

from nicelevel.core.channels import layout_of_name
from nicelevel.core.files import take_in
from nicelevel.core.plan import plan
from nicelevel.core.plan.limit import limited_by
from nicelevel.core.prepare import prepare
from nicelevel.core.prepare.pieces import prepared_piece
from nicelevel.core.prepare.prepared import prepared_blocks
from nicelevel.core.render import render, rendered_piece
from nicelevel.core.specs import parse_spec
from nicelevel.core.values import Preparation
from tests import signals

HALF = ((0.5, 0.5),)
PREPARATIONS = {
    "untouched": Preparation(),
    "down": Preparation(sample_rate_hz=44_100),
    "up": Preparation(sample_rate_hz=96_000),
    "mono at 16 kHz": Preparation(HALF, layout_of_name("mono"), 16_000),
    "cut": Preparation(sample_rate_hz=44_100, frames=60_000, fade_frames=20_000),
}


@pytest.mark.parametrize("name", PREPARATIONS)
@pytest.mark.parametrize("subtype", ["PCM_24", "DOUBLE"])
def test_a_piece_is_what_the_whole_has_there(tmp_path, name, subtype):
    preparation = PREPARATIONS[name]
    path = signals.write(tmp_path / "take.wav", signals.programme(2.5, seed=4), subtype=subtype)
    with take_in(path) as audio:
        whole = np.concatenate(list(prepared_blocks(audio, preparation, 10_007)))
    for first, last in ((0, 100), (0, 5_000), (12_345, 23_456), (len(whole) - 7_001, len(whole))):
        with take_in(path) as audio:
            piece = prepared_piece(audio, preparation, first, last)
        assert piece.shape == (last - first, whole.shape[1])
        assert np.abs(piece - whole[first:last]).max() < 1e-12


def test_a_rendered_piece_is_what_is_written(tmp_path):
    """Sample for sample before the last rounding, at the output's rate, with gain and limiter."""
    path = signals.write(tmp_path / "take.wav", signals.programme(6, seed=2))
    spec = parse_spec(
        '[spec]\nname = "House"\n[loudness]\ntarget = -14.0\ntolerance = 0.5\n[limits]\nmax_true_peak_dbtp = -1.0\n'
        '[method]\nallow = "limiter"\n[[formats]]\ncontainer = "wav"\nencoding = "float_64"\nsample_rate = 44100\n',
        "house",
    )
    with take_in(path) as audio:
        source = audio.source
    prepared = prepare(path, Preparation(sample_rate_hz=44_100), tmp_path)
    found = plan(source, lambda _: prepared, spec)
    limited = limited_by(prepared, found)
    assert found.action == "limit"
    staged = render(path, found, limited, tmp_path / "out.wav")
    with take_in(staged.path) as written, take_in(path) as audio:
        for first, last in ((0, 3_000), (100_001, 144_100)):
            piece = rendered_piece(audio, found, limited, first, last)
            assert np.abs(piece - written.window(first, last)).max() < 1e-12
