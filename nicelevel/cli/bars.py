"""A bar for each file in work, on a terminal; elsewhere nothing is drawn and nothing loaded for it."""

import sys
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext

from nicelevel.core.progress import Progress

Bar = Callable[[str], AbstractContextManager[Progress | None]]
"""Shows a bar with a name while its context lasts; it gives whoever works something to tell the progress to."""


@contextmanager
def progress_bars() -> Iterator[Bar]:
    """Bars on stderr, which are gone when the context is left."""
    if not sys.stderr.isatty():
        yield lambda name: nullcontext()
        return
    from rich.console import Console
    from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bars

    columns = TextColumn("{task.description}"), BarColumn(), TimeRemainingColumn()
    with Bars(*columns, console=Console(stderr=True), transient=True) as bars:

        @contextmanager
        def bar(name: str) -> Iterator[Progress]:
            task = bars.add_task(name, total=1.0)
            try:
                yield lambda ratio: bars.update(task, completed=ratio)
            finally:
                bars.remove_task(task)

        yield bar
