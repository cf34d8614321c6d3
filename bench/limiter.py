"""The limiter against ffmpeg's `alimiter` at the same ceiling and drive: overshoot, distortion, time.

alimiter works on samples: it gets the ceiling as a linear level, the look-ahead as attack, no make-up gain.
"""

import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from nicelevel.core.plan.limiter import Envelope
from nicelevel.core.prepare import prepare
from nicelevel.core.render.limiting import limit_block
from nicelevel.core.values import Limiter
from tests import plain, signals

CEILING_DB, DRIVE_DB, RATE_HZ = -1.0, 6.0, 48_000
LONG_S = 600


def main() -> None:
    print(
        "material, 6 dB over | limiter | true peak over the ceiling, dB | harmonics of a sine, dB | times real time"
    )
    materials = {
        "sine of 997 Hz": signals.both(signals.sine(997, CEILING_DB + DRIVE_DB, 4)),
        "drums": _driven(signals.drums(8.0)),
        "programme": _driven(signals.band_limited(signals.programme(20, seed=3), RATE_HZ)),
    }
    for name, signal in materials.items():
        for limiter, work in (("ours", ours), ("alimiter", theirs)):
            limited = work(signal)
            harmonics = f"{thd_db(limited):.0f}" if name.startswith("sine") else "–"
            print(f"{name} | {limiter} | {over_db(limited):+.2f} | {harmonics} | –")
    long = _driven(signals.programme(LONG_S, seed=1))
    for limiter, speed in (
        ("ours, envelope made and curve applied", speed_of_ours(long)),
        ("alimiter", speed_of_theirs(long)),
    ):
        print(f"{LONG_S} s of programme | {limiter} | – | – | {speed:.0f}")


def _driven(signal: np.ndarray) -> np.ndarray:
    return signal * 10 ** ((CEILING_DB + DRIVE_DB) / 20) / np.abs(signal).max()


def ours(signal: np.ndarray) -> np.ndarray:
    with tempfile.TemporaryDirectory() as folder:
        path = signals.write(Path(folder) / "driven.wav", signal, RATE_HZ, "DOUBLE")
        prepared = prepare(path, hops_folder=Path(folder))
        assert prepared.hops
        found = Envelope(prepared.hops, prepared.reading, "true_peak").limited(0.0, Limiter(CEILING_DB))
    limited = signal.copy()
    limit_block(limited, 0, RATE_HZ, found.left.curve)
    return limited


def theirs(signal: np.ndarray) -> np.ndarray:
    with tempfile.TemporaryDirectory() as folder:
        path, out = Path(folder) / "driven.wav", Path(folder) / "limited.wav"
        signals.write(path, signal, RATE_HZ, "DOUBLE")
        _alimiter(path, out)
        return soundfile.read(out, always_2d=True)[0]


def _alimiter(path: Path, out: Path) -> None:
    ceiling = 10 ** (CEILING_DB / 20)
    effect = f"alimiter=limit={ceiling:.6f}:attack=5:release=30:level=disabled:latency=1"
    command: list[str | Path] = [
        "ffmpeg",
        "-loglevel",
        "error",
        "-y",
        "-threads",
        "1",
        "-i",
        path,
        "-af",
        effect,
        "-c:a",
        "pcm_f64le",
        out,
    ]
    subprocess.run(command, check=True)


def speed_of_ours(signal: np.ndarray) -> float:
    """Curve and samples: what a render does beyond reading and writing; the hops are there from measuring."""
    with tempfile.TemporaryDirectory() as folder:
        path = signals.write(Path(folder) / "long.wav", signal, RATE_HZ, "FLOAT")
        prepared = prepare(path, hops_folder=Path(folder))
        assert prepared.hops
        limited = signal.copy()
        start = time.process_time()
        found = Envelope(prepared.hops, prepared.reading, "true_peak").limited(0.0, Limiter(CEILING_DB))
        limit_block(limited, 0, RATE_HZ, found.left.curve)
        return LONG_S / (time.process_time() - start)


def speed_of_theirs(signal: np.ndarray) -> float:
    with tempfile.TemporaryDirectory() as folder:
        path = signals.write(Path(folder) / "long.wav", signal, RATE_HZ, "FLOAT")
        took = []
        for effect in (["-af", "alimiter=limit=0.89125:attack=5:release=30:level=disabled"], []):
            start = time.perf_counter()
            subprocess.run(
                ["ffmpeg", "-loglevel", "error", "-threads", "1", "-i", path, *effect, "-f", "null", "-"], check=True
            )
            took.append(time.perf_counter() - start)
        return LONG_S / (took[0] - took[1])


def over_db(signal: np.ndarray) -> float:
    """True peak over the ceiling, once a steady tone has settled."""
    rest = signal[RATE_HZ // 10 :]
    taper = np.minimum(1.0, np.minimum(np.arange(len(rest)), np.arange(len(rest))[::-1]) / 2_000)[:, None]
    peak = max(plain.band_limited_peak((rest * taper)[:, channel], 16) for channel in range(2))
    return 20 * np.log10(peak) - CEILING_DB


def thd_db(signal: np.ndarray) -> float:
    steady = signal[2 * RATE_HZ : 3 * RATE_HZ, 0] * np.blackman(RATE_HZ)
    powers = np.abs(np.fft.rfft(steady)) ** 2
    tone = powers[992:1003].sum()
    return 10 * np.log10(sum(powers[n * 997 - 5 : n * 997 + 6].sum() for n in range(2, 24)) / tone)


if __name__ == "__main__":
    main()
