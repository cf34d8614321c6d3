"""The slow, plain twins of the kernels: what the fast ones must equal."""

import itertools

import numpy as np

from nicelevel.core.measure.k_weighting import coefficients
from nicelevel.core.measure.true_peak import TAPS, interpolator


def hop_energies(signal: np.ndarray, rate: int, weights: tuple[float, ...]) -> np.ndarray:
    """K-weighted mean squares per 10 ms, by direct form I in plain Python."""
    edges = [second * rate + hop * rate // 100 for second in range(len(signal) // rate + 1) for hop in range(100)]
    edges = [edge for edge in edges if edge <= len(signal)]
    weighted = np.zeros(len(signal))
    for channel, weight in enumerate(weights):
        weighted += weight * np.square(k_weighted(signal[:, channel], rate))
    return np.array([weighted[start:end].mean() for start, end in itertools.pairwise(edges)])


def k_weighted(samples: np.ndarray, rate: int) -> np.ndarray:
    """One channel through both biquads."""
    y = list(map(float, samples))
    for b0, b1, b2, a1, a2 in coefficients(rate).tolist():
        y = biquad(y, b0, b1, b2, a1, a2)
    return np.array(y)


def biquad(x: list[float], b0: float, b1: float, b2: float, a1: float, a2: float) -> list[float]:
    y: list[float] = []
    x1 = x2 = y1 = y2 = 0.0
    for sample in x:
        out = b0 * sample + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2
        x2, x1, y2, y1 = x1, sample, y1, out
        y.append(out)
    return y


def window_means(energies: np.ndarray, hops: int) -> np.ndarray:
    return np.array([energies[end - hops : end].mean() for end in range(hops, len(energies) + 1)])


def true_peak(signal: np.ndarray) -> float:
    """Every phase of every sample of one channel, nothing passed over."""
    padded = np.concatenate((np.zeros(TAPS - 1), signal, np.zeros(TAPS - 1)))
    points = [np.correlate(padded, phase) for phase in interpolator()]
    return float(np.abs(points).max())


def band_limited_peak(signal: np.ndarray, factor: int = 64) -> float:
    """Peak of a periodic signal by zero-padding its spectrum: the exact band-limited waveform."""
    frames = len(signal)
    spectrum = np.fft.rfft(signal)
    wide = np.zeros(frames * factor // 2 + 1, complex)
    wide[: len(spectrum)] = spectrum
    return float(np.abs(np.fft.irfft(wide, frames * factor)).max() * factor)


def rounded(block: np.ndarray, bits: int) -> np.ndarray:
    """Nearest codes without dither, halves upward, held in range."""
    scale = 2 ** (bits - 1)
    return np.clip(np.floor(block * scale + 0.5), -scale, scale - 1).astype(np.int32)


def clipped(signal: np.ndarray, lowest: float, highest: float) -> int:
    """Samples of one channel in runs of two or more at one value that is full scale or beyond."""
    count, run = 0, []
    for sample in [*signal, 0.0]:
        is_full = sample >= highest or sample <= lowest
        if run and is_full and sample == run[-1]:
            run.append(sample)
            continue
        count += len(run) if len(run) > 1 else 0
        run = [sample] if is_full else []
    return count


def limiter_nodes(
    codes: np.ndarray,
    lowest: int,
    allowed: np.ndarray,
    window: np.ndarray,
    steps: np.ndarray,
    hold: int,
    spline: int,
) -> np.ndarray:
    """The limiter's curve hop by hop: what a window allows, the way back, the smoothing."""
    taps = len(window)
    ahead = taps + spline - 1
    lead, step_hops = 160, 10
    padded = np.concatenate((np.zeros(lead, int), codes, np.zeros(1000, int)))
    ratio, density, rises = 1.0, 0.0, []
    for start in range(0, lead + len(codes) + spline, step_hops):
        windows = [padded[max(0, hop - hold) : hop + ahead + 1].max() for hop in range(start, start + step_hops)]
        density += step_hops / 400 * (float(max(windows) > lowest) - density)
        step = float(steps[int(density * (len(steps) - 1))])
        for highest in windows:
            most = float(allowed[highest - lowest]) if highest > lowest else 1.0
            ratio = min(ratio * step, most, 1.0)
            rises.append(ratio)
    smoothed = 1.0 - np.convolve(1.0 - np.array(rises), window)[: len(rises)]
    # The smoothed value of hop k is node k + spline.
    return smoothed[lead - spline : lead + len(codes)]
