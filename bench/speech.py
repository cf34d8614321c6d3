"""The weights that tell speech from music, fitted anew to synthetic voices over synthetic music, and how well they do
on what they were not fitted to.

.venv/bin/python -m bench.speech
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nicelevel.core.channels import layout_from_count
from nicelevel.core.speech import dialogue
from nicelevel.core.speech.voice_bands import FRAMES_PER_SECOND, VoiceBands
from nicelevel.core.values import Shape
from tests import episodes
from tests.episodes import RATE_HZ
from tests.signals import Signal, noise, ratio
from tests.speech_and_music import KINDS, music, talk

SECONDS, FITTED, KEPT = 60, 5, 2
APART_DB = (20.0, 10.0, 5.0, 0.0, -20.0)
"""Speech over music; what lies 20 dB under it counts as none, for nobody follows it."""

RIDGE, ROUNDS = 0.5, 40
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Heard:
    """Features of windows, and which share of each is spoken; of what lies between, nothing is learned."""

    kind: str
    over_db: float | None
    features: Floats
    spoken: Floats


def main() -> None:
    fitted = [each for seed in range(FITTED) for each in _heard(100 + seed)]
    kept = [each for seed in range(KEPT) for each in _heard(900 + seed)]
    means, spreads, weights = _fit(fitted)
    named = {"MEANS": means, "SPREADS": spreads, "LINEAR": weights[:9], "SQUARE": weights[9:18], "BIAS": weights[18:]}
    for name, values in named.items():
        print(name, np.array2string(values, precision=4, suppress_small=True, max_line_width=110, separator=", "))
    print("kind | dB over | found of what is spoken | taken for speech of what is not")
    for over_db in (*APART_DB, None):
        for kind in KINDS:
            _print(
                kind,
                over_db,
                [each for each in kept if (each.kind, each.over_db) == (kind, over_db)],
                means,
                spreads,
                weights,
            )


def _heard(seed: int) -> Iterator[Heard]:
    said, spoken = talk(seed, SECONDS)
    for kind in KINDS:
        played = music(kind, SECONDS, seed)
        for over_db in APART_DB:
            yield _of(kind, over_db, said + played * ratio(-over_db), spoken if over_db >= 0.0 else 0 * spoken)
        yield _of(kind, None, played, 0 * spoken)
    yield _of("room", 40.0, said + noise(SECONDS, episodes.BASE_LUFS - 40.0, RATE_HZ, 1, seed), spoken)


def _of(kind: str, over_db: float | None, sound: Signal, spoken: Floats) -> Heard:
    bands = VoiceBands(Shape(RATE_HZ, layout_from_count(1), len(sound)))
    bands.feed(sound)
    found = dialogue.features(bands.powers(), bands.flatness())
    apart = RATE_HZ // FRAMES_PER_SECOND
    starts = np.arange(len(found)) * dialogue.STEP_FRAMES * apart
    shares = [spoken[start : start + dialogue.WINDOW_FRAMES * apart].mean() for start in starts]
    return Heard(kind, over_db, found, np.array(shares))


def _fit(heard: list[Heard]) -> tuple[Floats, Floats, Floats]:
    """Logistic regression with squares, by Newton's method."""
    found = np.concatenate([each.features for each in heard])
    shares = np.concatenate([each.spoken for each in heard])
    is_clear = (shares > 0.8) | (shares < 0.05)
    found, spoken = found[is_clear], (shares[is_clear] > 0.8).astype(np.float64)
    means, spreads = found.mean(axis=0), found.std(axis=0)
    z = _terms(found, means, spreads)
    weights = np.zeros(z.shape[1])
    for _ in range(ROUNDS):
        told = 1.0 / (1.0 + np.exp(-z @ weights))
        slope = z.T @ (spoken - told) - RIDGE * weights
        curvature = (z * (told * (1.0 - told))[:, None]).T @ z + RIDGE * np.eye(len(weights))
        weights += np.linalg.solve(curvature, slope)
    return means, spreads, weights


def _terms(found: Floats, means: Floats, spreads: Floats) -> Floats:
    z = (found - means) / spreads
    return np.column_stack((z, z**2, np.ones(len(z))))


def _print(
    kind: str, over_db: float | None, heard: list[Heard], means: Floats, spreads: Floats, weights: Floats
) -> None:
    hits, false = [], []
    for each in heard:
        told = 1.0 / (1.0 + np.exp(-_terms(each.features, means, spreads) @ weights))
        smooth = np.convolve(told, np.full(5, 0.2), "same") > 0.5
        hits += smooth[each.spoken > 0.8].tolist()
        false += smooth[each.spoken < 0.05].tolist()
    shown = [f"{np.mean(each):.2f}" if each else "–" for each in (hits, false)]
    print(f"{kind} | {'music alone' if over_db is None else f'{over_db:g}'} | {' | '.join(shown)}")


if __name__ == "__main__":
    main()
