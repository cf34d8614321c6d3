"""The command's entrance: what every subcommand shares."""

import os
import sys
from importlib import import_module
from typing import Any, NoReturn

import click

from nicelevel.core.errors import NiceLevelError
from nicelevel.own_process import arrange_process

_MODULES = {
    "measure": "measure",
    "check": "check",
    "plan": "plan",
    "render": "render",
    "specs": "specs",
    "recipes": "recipes",
    "join": "programmes",
    "split": "programmes",
    "regain": "regain",
    "watch": "watch",
    "serve": "server",
    "user": "user",
    "verify": "keeping",
    "backup": "keeping",
    "restore": "keeping",
    "migrate": "server",
    "web": "server",
    "worker": "server",
    "desk": "server",
    "warm": "server",
    "try-task": "server",
}
"""The module of each command, loaded only when it is called: the start is quick."""

_HIDDEN = ("try-task", "desk")
"""Started by others of ours alone."""

WRONG_USAGE, INTERRUPTED = 2, 130


class _Group(click.Group):
    """Turns wrong usage, a broken spec or setting into status 2 and one line; a traceback is never shown."""

    def list_commands(self, context: click.Context) -> list[str]:
        return [name for name in _MODULES if name not in _HIDDEN]

    def get_command(self, context: click.Context, name: str) -> click.Command | None:
        if name not in _MODULES:
            return None
        command: click.Command = getattr(import_module(f"{__package__}.{_MODULES[name]}"), name.replace("-", "_"))
        return command

    def main(self, *arguments: Any, **options: Any) -> NoReturn:
        arrange_process()  # before the command's module is loaded, and numpy with it
        try:
            status = super().main(*arguments, **{**options, "standalone_mode": False})
        except click.exceptions.NoArgsIsHelpError as error:
            click.echo(error.format_message())
            sys.exit(WRONG_USAGE)
        except (click.ClickException, NiceLevelError) as error:
            message = error.format_message() if isinstance(error, click.ClickException) else error.message
            click.echo(f"nice-level: {' '.join(message.split())}", err=True)
            sys.exit(WRONG_USAGE)
        except OSError as error:
            if isinstance(error, BrokenPipeError):
                # Who reads us has read enough; the rest of what is buffered must not raise at the interpreter's end.
                os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
                sys.exit(1)
            place = f"{error.filename}: " if error.filename else ""
            click.echo(f"nice-level: {place}{(error.strerror or str(error)).lower()}", err=True)
            sys.exit(WRONG_USAGE)
        except (click.Abort, KeyboardInterrupt):
            sys.exit(INTERRUPTED)
        sys.exit(status if isinstance(status, int) else 0)


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="nice-level")
def main() -> None:
    """Measures every mix, plans it for every destination, renders it and proves what was written."""


if __name__ == "__main__":
    sys.exit(main())
