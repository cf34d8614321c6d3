"""From a bulletin that is whole to its being published: five minutes of MP3, prepared by five steps, levelled,
encoded, proved; as a ratio to decoding and encoding it once.
"""

import tempfile
import time
from pathlib import Path

import numpy as np

from nicelevel.core.arrivals import Settling, open_line
from nicelevel.core.channels import layout_from_count
from nicelevel.core.files import open_sink, take_in
from nicelevel.core.recipes import shipped_recipes
from nicelevel.core.specs.library import shipped_specs
from nicelevel.core.steps import recipe_from_json
from nicelevel.core.values import OutputFormat
from tests import episodes
from tests.speech_and_music import talk

MINUTES, TURNS, KBPS = 5, 3, 96.0


def _written(path: Path, samples: np.ndarray) -> None:
    output = OutputFormat("mp3", "mp3", episodes.RATE_HZ, layout_from_count(1), "none", KBPS)
    sink = open_sink(path, output, len(samples))
    sink.write(samples)
    sink.close()


def _decoded(path: Path) -> np.ndarray:
    with take_in(path) as audio:
        return np.concatenate(list(audio.blocks(1 << 16)))


def main() -> None:
    """In turns, the best of three of each."""
    recipe = (*recipe_from_json([{"do": "tick"}]), *shipped_recipes()["news-from-outside"].steps)
    with tempfile.TemporaryDirectory() as name:
        folder, source = Path(name), Path(name) / "in"
        source.mkdir()
        _written(source / "bulletin.mp3", 0.3 * talk(5, 60.0 * MINUTES)[0].astype(np.float32))
        once, whole = [], []
        for turn in range(TURNS):
            start = time.perf_counter()
            _written(folder / f"once{turn}.mp3", _decoded(source / "bulletin.mp3"))
            once.append(time.perf_counter() - start)
            line = open_line(shipped_specs()["podcast"], recipe, folder / f"air{turn}", "{title}", None)
            (arrival,) = Settling(source, 0.0).look(0.0)
            start = time.perf_counter()
            outcome = line.handle(arrival)
            whole.append(time.perf_counter() - start)
            assert outcome, "nothing was done"
            assert outcome.error is None, outcome.error
    print(f"five minutes of MP3 decoded and encoded once: {min(once):.2f} s; published: {min(whole):.2f} s")
    print(f"{len(recipe)} steps, ratio {min(whole) / min(once):.1f} (asked: 2)")


if __name__ == "__main__":
    main()
