"""Compile every kernel once, so that nobody waits for it later: half a minute of set-up."""

import tempfile
from pathlib import Path

import numpy as np
import soundfile

from .process import process
from .specs import shipped_specs

_SAMPLE_RATE_HZ = 8_000


def compile_kernels() -> None:
    """Send two seconds of noise, in both sample types, through the whole way."""
    noise = np.random.default_rng(0).uniform(-0.5, 0.5, (2 * _SAMPLE_RATE_HZ, 2))
    with tempfile.TemporaryDirectory() as folder:
        for subtype in ("PCM_16", "DOUBLE"):
            path = Path(folder) / f"{subtype}.wav"
            soundfile.write(path, noise, _SAMPLE_RATE_HZ, subtype)
            for spec in shipped_specs().values():
                process(path, spec, Path(folder), replace=True)
