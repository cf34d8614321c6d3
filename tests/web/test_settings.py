"""Settings: one table, held against the manual."""

import re
from pathlib import Path

import pytest
from psycopg.conninfo import conninfo_to_dict

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
    config = read_config({PREFIX + "HOSTS": "studio.example  127.0.0.1", PREFIX + "ACCOUNTS": "yes"})
    assert config.hosts == ("studio.example", "127.0.0.1")
    assert read_config(config.environment()).hosts == config.hosts
    with pytest.raises(SpecError, match=f"{PREFIX}HOSTS"):
        read_config({PREFIX + "HOSTS": "  "})


@pytest.mark.parametrize(
    ("name", "value"),
    [("ADDRESS", "0.0.0.0"), ("ADDRESS", "::"), ("ADDRESS", "192.0.2.7"), ("HOSTS", "studio.example")],
)
def test_others_come_in_with_accounts_alone(name, value):
    with pytest.raises(SpecError, match="ACCOUNTS=yes"):
        read_config({PREFIX + name: value})
    config = read_config({PREFIX + name: value, PREFIX + "ACCOUNTS": "yes"})
    assert read_config(config.environment()) == config


@pytest.mark.parametrize("address", ["127.0.0.1", "127.0.0.9", "::1"])
def test_loopback_needs_no_accounts(address):
    assert read_config({PREFIX + "ADDRESS": address}).address == address


@pytest.mark.parametrize(
    ("name", "value"),
    [("ADDRESS", "studio"), ("PROXIES", "-1"), ("LINE_FOLDERS", "in:/out"), ("SIGNED_IN_HOURS", "0")],
)
def test_a_door_without_sense_is_named(name, value):
    with pytest.raises(SpecError, match=PREFIX + name):
        read_config({PREFIX + name: value, PREFIX + "ACCOUNTS": "yes"})


def test_every_setting_is_in_the_manual():
    manual = (Path(__file__).parents[2] / "docs" / "settings.md").read_text()
    for setting in SETTINGS:
        assert f"| `{PREFIX}{setting.name.upper()}` | {setting.default or '–'} | {setting.help} |" in manual


def test_secrets_are_made_once_and_for_the_owner_alone(tmp_path):
    config = read_config({"NICE_LEVEL_DATA_FOLDER": str(tmp_path)})
    assert config.secret("session") == config.secret("session") != config.secret("database")
    assert (tmp_path / "secrets" / "session").stat().st_mode & 0o077 == 0


def test_the_page_says_what_holds_where_it_is_from_and_no_secret(config, client, monkeypatch):
    monkeypatch.setenv("NICE_LEVEL_GIVEN", "NICE_LEVEL_TRASH_DAYS")
    monkeypatch.setenv("NICE_LEVEL_TRASH_DAYS", "7")
    monkeypatch.setenv("NICE_LEVEL_DESK_ADDRESS", "http://127.0.0.1:8418/packages")
    monkeypatch.delenv("NICE_LEVEL_PORT", raising=False)
    page = client.get("/settings").text
    rows = dict(re.findall(r'<tr class="[a-z]*"><td class="fig">(\w+)</td>.*?</td><td>([^<]*)</td>', page))
    assert set(rows) == {PREFIX + each.name.upper() for each in SETTINGS}
    told = [rows[PREFIX + name] for name in ("TRASH_DAYS", "DESK_ADDRESS", "PORT")]
    assert told == ["set", "found at the start", "as it comes"]
    assert config.database_url not in page
    assert "for-tests" not in page


def test_what_the_address_of_a_database_says_of_waiting_is_kept():
    def told(url):
        return conninfo_to_dict(read_config({"NICE_LEVEL_DATABASE_URL": url}).database_url)

    plain = told("postgresql://one@here/levels")
    assert (plain["tcp_user_timeout"], plain["host"]) == ("10000", "here")
    assert "-c tcp_keepalives_idle=5 " in plain["options"]
    own = told("postgresql://one@here/levels?tcp_user_timeout=3000&options=-c%20tcp_user_timeout%3D3000")
    assert own["tcp_user_timeout"] == "3000"
    assert own["options"].endswith(" -c tcp_user_timeout=3000")
    once = read_config({"NICE_LEVEL_DATABASE_URL": "postgresql://one@here/levels"}).database_url
    assert read_config({"NICE_LEVEL_DATABASE_URL": once}).database_url == once
