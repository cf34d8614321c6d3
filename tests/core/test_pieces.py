"""A piece from anywhere is what the whole has there: levelled and limited."""

import numpy as np

from nicelevel.core.files import take_in
from nicelevel.core.plan import plan
from nicelevel.core.plan.limit import limited_by
from nicelevel.core.prepare import prepare
from nicelevel.core.render import render, rendered_piece
from nicelevel.core.specs import parse_spec
from nicelevel.core.steps.rate import Rate
from tests import signals

from .preparing import chain_of


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
    prepared = prepare(path, chain_of(path, Rate(hz=44_100)), tmp_path)
    found = plan(source, lambda _: prepared, spec)
    limited = limited_by(prepared, found)
    assert found.action == "limit"
    staged = render(path, found, limited, tmp_path / "out.wav")
    with take_in(staged.path) as written, take_in(path) as audio:
        for first, last in ((0, 3_000), (100_001, 144_100)):
            piece = rendered_piece(audio, found, limited, first, last)
            assert np.abs(piece - written.window(first, last)).max() < 1e-12
