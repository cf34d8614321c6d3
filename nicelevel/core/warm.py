"""Compile every kernel for every kind of sample, so that nobody waits for it later: a minute of set-up."""

import multiprocessing
import os
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from .kernels import SUFFIX
from .measure import measure
from .measure.gating import MOMENTARY_HOPS, series_lufs
from .mp3.frames import walk
from .prepare import Workshop
from .process import process
from .specs import parse_spec
from .speech import Heard, even_out
from .steps import recipe_from_json

_SAMPLE_RATE_HZ = 8_000

# One file for each type that samples are held in: see `files.codes`.
_KINDS = (("wav", "PCM_24"), ("wav", "PCM_16"), ("flac", "PCM_16"), ("wav", "FLOAT"), ("wav", "DOUBLE"))

_STEPS: list[dict[str, Any]] = [
    {"do": "high_pass", "hz": 80.0},
    {"do": "gate", "below_db": -30.0},
    {"do": "compress", "above_db": -30.0, "ratio": 2.0},
    {"do": "even"},
    {"do": "pauses", "keep_s": 0.0, "longer_than_s": 0.0},
]

_LIMITED = """
spec.name = "Warm"
loudness = {{ target = -14.0, tolerance = 0.5 }}
limits = {{ max_true_peak_dbtp = -1.0 }}
method = {{ allow = "limiter" }}
output = {{ pick = "all", name = "{{title}}_{{bits}}" }}
formats = [
    {{ container = "wav", encoding = "pcm_16", dither = "shaped", channels = "{channels}", sample_rate = {rate_hz} }},
    {{ container = "wav", encoding = "pcm_24", channels = "{channels}", sample_rate = {rate_hz} }},
]
"""


def compile_kernels() -> None:
    """Measure two seconds of clipped bursts of every kind, one kind on each processor; render some with a limiter.

    What else is called on the way to a file or a curve is called too, on its own.

    Code that was compiled before goes: what still fits is made again, and no other is ever asked for.
    """
    for stored in Path(__file__).parent.rglob(f"*{SUFFIX}"):
        stored.unlink()
    with ProcessPoolExecutor(os.cpu_count(), multiprocessing.get_context("spawn")) as pool:
        list(pool.map(_measure, _KINDS))
    with tempfile.TemporaryDirectory() as folder:
        for channels, times in (("keep", 1), ("keep", 2), ("mono", 1)):
            spec = parse_spec(_LIMITED.format(channels=channels, rate_hz=times * _SAMPLE_RATE_HZ), channels)
            made = process(_bursts(Path(folder), *_KINDS[0]), spec, Path(folder), replace=True)
            assert all(each.plan.action == "limit" for each in made)
        _prepare(_bursts(Path(folder), *_KINDS[0]))
    frame = np.zeros(417, np.uint8)
    frame[:4] = 0xFF, 0xFB, 0x90, 0x00
    walk(np.tile(frame, 3), 0)


def _prepare(path: Path) -> None:
    """What steps listen and filter with; a level that goes up and down stands for speech."""
    with Workshop(path, with_hops=False, recipe=recipe_from_json(_STEPS)) as workshop:
        workshop.measured(workshop.recipe)
    syllables = np.tile(np.repeat([1e-6, 1e-2, 1e-2, 1e-3], 10), 50) * np.repeat([1.0, 0.05], 1_000)
    assert even_out(Heard(syllables, np.zeros(len(syllables))), "strong").any()


def _measure(kind: tuple[str, str]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        reading = measure(_bursts(Path(folder), *kind), hops_folder=Path(folder))
    series_lufs(reading.curves.energies, MOMENTARY_HOPS)


def _bursts(folder: Path, suffix: str, subtype: str) -> Path:
    """Clipped noise for 5 ms of every half second, soft noise else: to be loud it has to be limited."""
    path, frames = folder / f"bursts.{suffix}", 2 * _SAMPLE_RATE_HZ
    noise = np.random.default_rng(0).uniform(-1.2, 1.2, (frames, 2))
    is_burst = np.arange(frames)[:, None] % (_SAMPLE_RATE_HZ // 2) < _SAMPLE_RATE_HZ // 200
    soundfile.write(path, np.where(is_burst, noise, 0.1 * noise).clip(-1.0, 1.0), _SAMPLE_RATE_HZ, subtype)
    return path
