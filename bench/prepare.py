"""Preparing against reading and measuring: a recipe of five steps, and the first drawing of it.

.venv/bin/python -m bench.prepare
"""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile

from nicelevel.core.errors import NotPreparedError
from nicelevel.core.measure import measure
from nicelevel.core.prepare import Workshop
from nicelevel.core.prepare.sketch import sketch
from nicelevel.core.steps import Chain, Found, Step, recipe_from_json
from nicelevel.core.steps.hops import Hops
from nicelevel.report.prepare_view import draw_waveform, rows_of
from tests import episodes

MINUTES, WIDTH, TURNS = 10, 800, 3

STEPS = recipe_from_json(
    [
        {"do": "tick"},
        {"do": "high_pass", "hz": 80.0},
        {"do": "gate", "below_db": -48.0, "reduce_db": 12.0},
        {"do": "even"},
        {"do": "pauses"},
    ]
)


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = _conversation(Path(folder))
        measure(path)
        twice_s = 2.0 * _best(lambda: measure(path))
        steps_s = _best(lambda: _prepared(path))
        hops, shape = Hops.of(measure(path)), measure(path).source.shape
        drawn_s = _best(lambda: _drawn(hops, shape))
    print(f"{MINUTES} minutes of 48 kHz, 24 bit, stereo, five steps | s | ratio to reading and measuring twice")
    print(f"reading and measuring twice | {twice_s:.2f} | 1")
    print(f"listened for, prepared and measured | {steps_s:.2f} | {steps_s / twice_s:.1f}")
    print(f"drawn from every 10 ms | {drawn_s:.3f} | {drawn_s / twice_s:.2f}")


def _conversation(folder: Path) -> Path:
    sound, _ = episodes.episode([0, -6, 3, 8, -4], [0.5, 1.3, 0, 0.8, 1.5])
    times = -(-MINUTES * 60 * episodes.RATE_HZ // len(sound))
    whole = np.tile(sound, (times, 1))[: MINUTES * 60 * episodes.RATE_HZ]
    soundfile.write(folder / "talk.wav", np.concatenate([whole, 0.8 * whole], axis=1), episodes.RATE_HZ, "PCM_24")
    return folder / "talk.wav"


def _prepared(path: Path) -> None:
    with Workshop(path, with_hops=False, recipe=STEPS) as workshop:
        workshop.measured(workshop.recipe)


def _drawn(hops: Hops, shape: object) -> None:
    made = sketch(shape, hops, STEPS, _nobody_has_listened)  # type: ignore[arg-type]
    rows_of([(each.step, False, {}) for each in made], made, {}, 60.0 * MINUTES, WIDTH)
    draw_waveform(made[-1].hops.peaks, made[-1].after, 60.0 * MINUTES, WIDTH)


def _nobody_has_listened(chain: Chain, step: Step) -> Found:
    raise NotPreparedError("Nobody has listened yet.")


def _best(work: Callable[[], object]) -> float:
    times = []
    for _ in range(TURNS):
        begun_s = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun_s)
    return min(times)


if __name__ == "__main__":
    main()
