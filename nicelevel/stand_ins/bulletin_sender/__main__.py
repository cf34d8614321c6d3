"""python -m nicelevel.stand_ins.bulletin_sender FILE FOLDER: a file, again and again, as suppliers send it."""

import time
from pathlib import Path

import click

from .sender import FAULTS, Fault, send


@click.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.argument("folder", type=click.Path(path_type=Path, exists=True, file_okay=False))
@click.option("--name", default="bulletin {number}.wav", help="With {number} in it, or always the same.")
@click.option("--times", default=1, type=click.IntRange(min=1), help="How many are sent.")
@click.option("--every-s", default=60.0, help="From the beginning of one to that of the next.")
@click.option("--over-s", default=5.0, help="How long each takes to come.")
@click.option("--fault", type=click.Choice(FAULTS), help="What is wrong with the last of them.")
def main(file: Path, folder: Path, name: str, times: int, every_s: float, over_s: float, fault: Fault | None) -> None:
    """Send FILE into FOLDER in time lapse."""
    data = file.read_bytes()
    for number in range(1, times + 1):
        begun_s = time.monotonic()
        path = send(data, folder, name.format(number=number), over_s, fault if number == times else None)
        click.echo(f"{path.name} is sent.")
        if number < times:
            time.sleep(max(0.0, every_s - (time.monotonic() - begun_s)))


if __name__ == "__main__":
    main()
