"""Preparing against reading and measuring: a recipe of five steps, and the first drawing of it.

.venv/bin/python -m bench.prepare
"""

import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile

from nicelevel.core.errors import NotPreparedError
from nicelevel.core.measure import measure
from nicelevel.core.plan import plans
from nicelevel.core.prepare import Workshop
from nicelevel.core.prepare.sketch import sketch
from nicelevel.core.specs import parse_spec
from nicelevel.core.steps import Chain, Found, Recipe, Step, recipe_from_json
from nicelevel.core.steps.hops import Hops
from nicelevel.core.values import Shape
from nicelevel.report.prepare_view import draw_waveform, rows_of
from tests import episodes

MINUTES, WIDTH, TURNS, PLANNED = 10, 800, 3, 100
SPEC = (
    '[spec]\nname = "Column"\n[loudness]\ntarget = {target}\ntolerance = 0.5\n'
    '[[formats]]\ncontainer = "wav"\nencoding = "pcm_24"\n'
)

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
        drawn_s = _best(lambda: _drawn(hops, shape, MINUTES))
        hour_s = _once(lambda: _drawn(*_longer(hops, shape), 60))
        plain_s, prepared_s = _planned_s(path, ()), _planned_s(path, STEPS)
    print(f"{MINUTES} minutes of 48 kHz, 24 bit, stereo, five steps | s | ratio to reading and measuring twice")
    print(f"reading and measuring twice | {twice_s:.2f} | 1")
    print(f"listened for, prepared and measured | {steps_s:.2f} | {steps_s / twice_s:.1f}")
    print(f"drawn from every 10 ms | {drawn_s:.3f} | {drawn_s / twice_s:.2f}")
    print(f"an hour drawn for the first time | {hour_s:.2f} | {hour_s / twice_s:.2f}")
    print(f"{PLANNED} plans of it as it came | {plain_s:.2f} |")
    print(f"{PLANNED} plans of it prepared | {prepared_s:.2f} | {prepared_s / plain_s:.2f} to as it came")


def _conversation(folder: Path) -> Path:
    sound, _ = episodes.episode([0, -6, 3, 8, -4], [0.5, 1.3, 0, 0.8, 1.5])
    times = -(-MINUTES * 60 * episodes.RATE_HZ // len(sound))
    whole = np.tile(sound, (times, 1))[: MINUTES * 60 * episodes.RATE_HZ]
    soundfile.write(folder / "talk.wav", np.concatenate([whole, 0.8 * whole], axis=1), episodes.RATE_HZ, "PCM_24")
    return folder / "talk.wav"


def _prepared(path: Path) -> None:
    with Workshop(path, with_hops=False, recipe=STEPS) as workshop:
        workshop.measured(workshop.recipe)


def _drawn(hops: Hops, shape: Shape, minutes: int) -> None:
    made = sketch(shape, hops, STEPS, _nobody_has_listened)
    rows_of([(each.step, False, {}) for each in made], made, {}, 60.0 * minutes, WIDTH)
    draw_waveform(made[-1].hops.peaks, made[-1].after, 60.0 * minutes, WIDTH)


def _longer(hops: Hops, shape: Shape) -> tuple[Hops, Shape]:
    """As if it went on for an hour."""
    times = 60 // MINUTES
    peaks, squares, energies = (np.tile(each, times) for each in (hops.peaks, hops.squares, hops.energies))
    longer = replace(hops, peaks=peaks, squares=squares, energies=energies)
    return longer, replace(shape, frames=times * shape.frames)


def _planned_s(path: Path, steps: Recipe) -> float:
    """A column of so many cells, each with another target; measured and listened to before."""
    with Workshop(path, with_hops=True, recipe=steps) as workshop:
        source = workshop.source()
        workshop.measured(steps)
        specs = [parse_spec(SPEC.format(target=-24.0 + number / 20.0), "column") for number in range(PLANNED)]
        plans(source, workshop.measured, specs[0])
        return _once(lambda: [plans(source, workshop.measured, each) for each in specs[1:]])


def _nobody_has_listened(chain: Chain, step: Step) -> Found:
    raise NotPreparedError("Nobody has listened yet.")


def _once(work: Callable[[], object]) -> float:
    begun_s = time.perf_counter()
    work()
    return time.perf_counter() - begun_s


def _best(work: Callable[[], object]) -> float:
    return min(_once(work) for _ in range(TURNS))


if __name__ == "__main__":
    main()
