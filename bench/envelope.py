"""How exact the envelope is: loudness, range and peak after a gain curve, by it and by the gained audio.

A curve has a value at every border of two hops and is linear between; the audio gets it sample by sample.
"""

import tempfile
from pathlib import Path

import numpy as np

from nicelevel.core.measure import measure
from nicelevel.core.measure.envelope import Envelope, load_envelope, loudness_blocks
from nicelevel.core.measure.gating import (
    SHORT_TERM_HOPS,
    gating_blocks,
    integrated_lufs,
    loudest_lufs,
    short_term_steps,
)
from nicelevel.core.measure.hop_files import ENVELOPE
from nicelevel.core.measure.loudness_range import loudness_range_lu
from tests import signals

RATE_HZ, SECONDS = 48_000, 120


def main() -> None:
    print("material | curve | integrated, LU | range, LU | largest short-term, LU | sample peak, dB")
    materials = {
        "programme": signals.programme(SECONDS, RATE_HZ, seed=3),
        "dense noise": np.clip(signals.noise(SECONDS, -12, RATE_HZ, seed=4), -0.9, 0.9),
        "low tones": 0.5 * signals.sine(55, 0, SECONDS) + 0.2 * signals.sine(1_700, 0, SECONDS),
    }
    with tempfile.TemporaryDirectory() as folder:
        for name, signal in materials.items():
            path = signals.write(Path(folder) / "source.wav", signal, RATE_HZ, "FLOAT")
            measure(path, hops_folder=Path(folder))
            envelope = load_envelope(Path(folder) / ENVELOPE)
            for curve_name, ratios in curves(envelope).items():
                print(name, curve_name, *compared(signal, envelope, ratios, Path(folder)), sep=" | ")


def curves(envelope: Envelope) -> dict[str, np.ndarray]:
    """Ratios at the borders of the hops: a plain gain, a ride, and what a limiter at half the peak would do."""
    borders = np.arange(len(envelope.peaks) + 1)
    highest = envelope.peaks.max(axis=1)
    allowed = np.minimum(1.0, 0.5 * highest.max() / np.maximum(highest, 1e-9))
    at_borders = np.minimum(np.append(allowed, 1.0), np.insert(allowed, 0, 1.0))
    limited = np.array([at_borders[max(0, at - 2) : at + 3].min() for at in borders])
    return {
        "gain of −7 dB": np.full(len(borders), 10 ** (-7 / 20)),
        "ride of ±6 dB in 3 s": 10 ** (6 * np.sin(2 * np.pi * borders / 3000) / 20),
        "limiter, 6 dB deep": limited,
    }


def compared(signal: np.ndarray, envelope: Envelope, ratios: np.ndarray, folder: Path) -> list[str]:
    """Envelope less audio, of each figure."""
    edges = np.arange(len(ratios)) * RATE_HZ // 1000
    gained = signal * np.interp(np.arange(len(signal)), edges, ratios)[:, None]
    truth = measure(signals.write(folder / "gained.wav", gained, RATE_HZ, "FLOAT"))
    # The mean square of a line from a to b is (a² + ab + b²) / 3.
    a, b = ratios[:-1, None], ratios[1:, None]
    planned = Envelope(envelope.peaks * np.maximum(a, b), envelope.energies * (a * a + a * b + b * b) / 3)
    energies = loudness_blocks(planned, (1.0,) * signal.shape[1], RATE_HZ)
    differences = (
        integrated_lufs(gating_blocks(energies)) - truth.integrated_lufs,
        (loudness_range_lu(short_term_steps(energies)) or 0.0) - (truth.loudness_range_lu or 0.0),
        loudest_lufs(energies, SHORT_TERM_HOPS) - truth.max_short_term_lufs,
        20 * np.log10(planned.peaks.max()) - truth.sample_peak_dbfs,
    )
    return [f"{value:+.4f}" for value in differences]


if __name__ == "__main__":
    main()
