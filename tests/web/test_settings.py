"""Settings: one table, held against the manual."""

from pathlib import Path

import pytest

from nicelevel.config import PREFIX, SETTINGS, read_config
from nicelevel.core.errors import SpecError


def test_defaults():
    config = read_config({})
    assert config.port == 8417
    assert config.data_folder == Path("data").resolve()
    assert config.demo


@pytest.mark.parametrize(("name", "value"), [("PORT", "http"), ("WORKER_JOBS", "0"), ("DEMO", "perhaps")])
def test_a_setting_without_sense_is_named(name, value):
    with pytest.raises(SpecError, match=PREFIX + name):
        read_config({PREFIX + name: value})


def test_the_names_that_are_answered_to_are_told_to_every_process():
    config = read_config({PREFIX + "HOSTS": "studio.example  127.0.0.1"})
    assert config.hosts == ("studio.example", "127.0.0.1")
    assert read_config(config.environment()).hosts == config.hosts
    with pytest.raises(SpecError, match=f"{PREFIX}HOSTS"):
        read_config({PREFIX + "HOSTS": "  "})


def test_every_setting_is_in_the_manual():
    manual = (Path(__file__).parents[2] / "docs" / "settings.md").read_text()
    for setting in SETTINGS:
        assert f"| `{PREFIX}{setting.name.upper()}` | {setting.default or '–'} | {setting.help} |" in manual


def test_secrets_are_made_once_and_for_the_owner_alone(tmp_path):
    config = read_config({"NICE_LEVEL_DATA_FOLDER": str(tmp_path)})
    assert config.secret("session") == config.secret("session") != config.secret("database")
    assert (tmp_path / "secrets" / "session").stat().st_mode & 0o077 == 0
