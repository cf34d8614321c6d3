"""Commands called in this process."""

import pytest
from click.testing import CliRunner

from nicelevel.cli.main import main


@pytest.fixture
def run():
    """Calls a command with its arguments; what came of it."""

    def call(*arguments):
        return CliRunner().invoke(main, [str(argument) for argument in arguments], catch_exceptions=False)

    return call
