"""The application's queue: songs at a destination with several formats of one rate, against the command line.

On the command line the signal that was resampled to be measured is kept until all is written. In the application it
was measured before, and deliverables that are rendered side by side or after each other share one that is made for
them. Beside it the largest memory of the worker.
"""

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from nicelevel.core.digest import sha256_of
from nicelevel.desk.contents import contents_of
from nicelevel.desk.prepared import missing_preparations
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import connected, open_database
from nicelevel.store.deliverables import UNFINISHED, deliverables_of
from nicelevel.store.jobs import destinations_of, make_job
from nicelevel.store.models import Destination, Source
from nicelevel.store.sources import sources_of
from nicelevel.store.specs import keep_version, spec_of
from nicelevel.work.enqueue import enqueue_renders, enqueue_source
from tests import signals
from tests.conftest import Live

SONGS, SONG_S = 8, 240
SPEC = """
[spec]
name = "Batch"
[loudness]
target = -16.0
tolerance = 0.5
[limits]
max_true_peak_dbtp = -1.0
[method]
allow = "limiter"
[output]
pick = "all"
name = "{title}_{codec}_{bits}"
""" + "".join(
    f"[[formats]]\nsample_rate = 44100\n{wanted}\n"
    for wanted in (
        'container = "wav"\nencoding = "pcm_16"',
        'container = "wav"\nencoding = "pcm_24"',
        'container = "flac"\nencoding = "pcm_16"',
        'container = "flac"\nencoding = "pcm_24"',
    )
)


FORMATS = SPEC.count("[[formats]]")


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        paths = [
            signals.write(Path(folder) / f"song {n}.wav", 0.5 * signals.programme(SONG_S, seed=n))
            for n in range(SONGS)
        ]
        alone_s = on_command_line(Path(folder), paths)
        live = Live(Path(folder))
        try:
            rendered_s, worker_mb = in_application(live, paths)
        finally:
            live.stop()
    print(f"{SONGS} songs of {SONG_S} s, {FORMATS} deliverables each")
    print(f"command line, measured, rendered and proved: {alone_s:.1f} s")
    print(f"application, rendered and proved: {rendered_s:.1f} s; largest memory of the worker {worker_mb:.0f} MB")


def on_command_line(folder: Path, paths: list[Path]) -> float:
    (folder / "batch.toml").write_text(SPEC)
    command: list[str | Path] = [Path(sys.executable).with_name("nice-level"), "render", "--json", *paths]
    start = time.perf_counter()
    subprocess.run(
        [*command, "--spec", folder / "batch.toml", "--out", folder / "out"], stdout=subprocess.DEVNULL, check=True
    )
    return time.perf_counter() - start


def in_application(live: Live, paths: list[Path]) -> tuple[float, float]:
    """Seconds to render all once it is measured, and the largest memory of the worker in MB."""
    audio = AudioFolder(live.data_folder / "audio")
    open_database(live.database_url())
    with connected():
        keep_version("batch", SPEC)
        job = make_job("Batch", None, ["batch"])
        for path in paths:
            digest, size_bytes = sha256_of(path), path.stat().st_size
            audio.adopt(path, digest)
            enqueue_source(job.id, path.name, digest, size_bytes)
        (destination,) = destinations_of(job.id)
        wait_until(lambda: all(is_prepared(source, destination, audio) for source in sources_of(job.id)))
        start = time.perf_counter()
        for source in sources_of(job.id):
            enqueue_renders(source, destination, audio)
        wait_until(lambda: not deliverables_of(job.id, UNFINISHED))
        took_s = time.perf_counter() - start
        assert len(deliverables_of(job.id, ["proved"])) == len(paths) * FORMATS
    return took_s, largest_mb(live.worker_pid())


def is_prepared(source: Source, destination: Destination, audio: AudioFolder) -> bool:
    if source.state != "measured":
        return False
    return not missing_preparations(contents_of(source), spec_of(destination.spec), audio)


def wait_until(holds: Callable[[], bool]) -> None:
    while not holds():
        time.sleep(0.1)


def largest_mb(pid: int) -> float:
    (line,) = (row for row in Path(f"/proc/{pid}/status").read_text().splitlines() if row.startswith("VmHWM"))
    return int(line.split()[1]) * 1024 / 1e6


if __name__ == "__main__":
    main()
