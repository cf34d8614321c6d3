"""nice-level user: who may come in, for the machine that Nice Level runs on."""

import sys
from collections.abc import Iterator
from contextlib import contextmanager

import click

ROLES = ("listener", "engineer", "operator")


@contextmanager
def _reached() -> Iterator[None]:
    from nicelevel.config import read_config
    from nicelevel.run.reach import reached_database
    from nicelevel.store.database import connected, migrate
    from nicelevel.store.journal import acting

    with reached_database(read_config()):
        migrate()
        with connected(), acting("on the command line"):
            yield


@click.group()
def user() -> None:
    """People who may come in: add, list, roles, password, token, end."""


def _password(from_stdin: bool) -> str:
    if from_stdin:
        return sys.stdin.readline().rstrip("\n")
    password: str = click.prompt("Password", hide_input=True, confirmation_prompt=True)
    return password


_stdin = click.option("--password-stdin", is_flag=True, help="Read the password from the first line of input.")
_roles = click.option(
    "--role", "roles", multiple=True, required=True, type=click.Choice(ROLES), help="May be given several times."
)


@user.command()
@click.argument("name")
@_roles
@_stdin
def add(name: str, roles: tuple[str, ...], password_stdin: bool) -> None:
    """Give somebody an account."""
    from nicelevel.desk.doors import new_person

    password = _password(password_stdin)
    with _reached():
        person = new_person(name, roles, password)
    click.echo(f"{person.name}: {', '.join(roles)}.")


@user.command("list")
def list_people() -> None:
    """Everybody with an account, and their roles."""
    from nicelevel.store.people import people

    with _reached():
        found = [(each.name, each.roles) for each in people()]
    for name, roles in found:
        click.echo(f"{name}: {', '.join(roles.split())}")
    if not found:
        click.echo("Nobody has an account.", err=True)


@user.command("roles")
@click.argument("name")
@_roles
def set_roles(name: str, roles: tuple[str, ...]) -> None:
    """Let somebody do other things from now on."""
    from nicelevel.desk.doors import change_roles, person_or_error

    with _reached():
        person = person_or_error(name)
        change_roles(person, roles)
    click.echo(f"{person.name}: {', '.join(roles)}.")


@user.command("password")
@click.argument("name")
@_stdin
def set_password(name: str, password_stdin: bool) -> None:
    """Give somebody another password; their browsers are signed out by it."""
    from nicelevel.desk.doors import change_password, person_or_error

    with _reached():
        person = person_or_error(name)
    password = _password(password_stdin)
    with _reached():
        change_password(person, password)
    click.echo(f"{person.name} has another password.")


@user.command()
@click.argument("name")
@click.option("--for", "purpose", required=True, help="What the token is for.")
def token(name: str, purpose: str) -> None:
    """Make a token for a program of somebody's, and print it."""
    from nicelevel.desk.doors import new_token, person_or_error

    with _reached():
        made = new_token(person_or_error(name), purpose)
    click.echo(made)


@user.command()
@click.argument("name")
def end(name: str) -> None:
    """End somebody's account; what they did stays in the journal."""
    from nicelevel.desk.doors import end_account, person_or_error

    with _reached():
        person = person_or_error(name)
        end_account(person)
    click.echo(f"{person.name} has no account any more.")
