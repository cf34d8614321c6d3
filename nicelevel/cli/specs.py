"""nice-level specs"""

import json

import click

from nicelevel.core.errors import SpecError
from nicelevel.core.specs import shipped_specs
from nicelevel.core.specs.library import shipped_toml
from nicelevel.report.as_json import spec_json
from nicelevel.report.spec_words import spec_line

from .table import print_table


@click.command()
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for programs.")
@click.argument("slug", required=False)
def specs(as_json: bool, slug: str | None) -> None:
    """List the specs that ship, or print the one with this SLUG as TOML, to be changed and kept as a file."""
    if slug is not None:
        if slug not in shipped_specs():
            raise SpecError(f"{slug}: no such spec; there are {', '.join(shipped_specs())}")
        click.echo(shipped_toml(slug), nl=False)
        return
    if as_json:
        for spec in shipped_specs().values():
            click.echo(json.dumps(spec_json(spec), ensure_ascii=False))
        return
    rows = [[slug, spec.spec.name, spec_line(spec), spec.spec.source] for slug, spec in shipped_specs().items()]
    print_table(("slug", "name", "demands", "source"), rows, left=4)
