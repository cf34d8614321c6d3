"""Tables for people: a name, then figures in columns."""

import sys
from collections.abc import Sequence

WIDE = 240
"""Columns of a table that goes into a file or another program."""


def print_table(columns: Sequence[str], rows: Sequence[Sequence[str]], left: int = 1) -> None:
    """Print rows under columns; the first `left` columns are text, the others figures."""
    if not rows:
        return
    # Loaded only here: a program that asks for JSON does not wait for it.
    from rich.console import Console
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold")
    for number, column in enumerate(columns):
        table.add_column(column, justify="left" if number < left else "right", no_wrap=number >= left)
    for row in rows:
        table.add_row(*row)
    Console(highlight=False, width=None if sys.stdout.isatty() else WIDE).print(table)
