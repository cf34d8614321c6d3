"""How a task is tried, also in a process of its own. What is no fault of its file is not held against that."""

from dataclasses import replace

import psycopg
import pytest
from peewee import OperationalError
from procrastinate.exceptions import ConnectorException

from nicelevel.core.arrivals import LineSettings
from nicelevel.store.database import connected, database, open_database
from nicelevel.store.lines import add_line
from nicelevel.store.models import Arrival
from nicelevel.work import trying
from nicelevel.work.app import queue
from nicelevel.work.watching import Watcher
from tests import signals

from .settling import SETTLE_S, settled

NOWHERE = "postgresql://nobody@127.0.0.1:9/nothing"
"""Port 9 is that of the discard service (RFC 863), at which nothing listens here."""


def _call(config, attempts=1):
    return trying.Call(config, attempts, lambda: False)


def test_whatever_is_on_the_queue_can_be_done_alone():
    """What the queue knows by name is known here too, with what says of it that it cannot be done."""
    queue.perform_import_paths()
    assert {name for name in queue.tasks if "builtin_tasks" not in name} == trying.WORKS.keys()


def test_an_arrival_whose_worker_was_lost_is_published_by_a_process_of_its_own(store, config, tmp_path):
    (tmp_path / "in").mkdir()
    told = {"name": "Bulletins", "folder": str(tmp_path / "in"), "publish": str(tmp_path / "out"), "spec": "podcast"}
    add_line(LineSettings(**told, under="{title}", settle_s=SETTLE_S))
    signals.write(tmp_path / "in" / "one.wav", signals.noise(2, -30))
    assert settled(Watcher(config)) == 1
    (arrival,) = Arrival.select()
    with connected():
        trying._do_alone("handle_arrival", _call(config), {"arrival_id": arrival.id})
    assert Arrival.get_by_id(arrival.id).state == "published"
    assert [each.stem for each in (tmp_path / "out").glob("[!.]*")] == ["one"]


def test_what_could_not_be_begun_is_tried_again_and_not_held_against_its_file(store, config):
    """The process ends before it comes to the task: here since nobody knows that."""
    with pytest.raises(trying.PassingError, match="could not be begun"):
        trying._do_alone("no_such_task", _call(config), {})


@pytest.mark.parametrize("error", [OperationalError, psycopg.OperationalError, ConnectorException])
def test_a_database_that_goes_away_in_the_middle_ends_nothing(config, error):
    """Whichever way it was asked: for a row, or for a place on the queue."""
    ends = []
    with pytest.raises(error), trying.ending(_call(config), lambda *told: ends.append(told), ends.append):
        raise error("gone")
    assert ends == []


def test_a_database_that_is_away_when_the_process_begins_is_waited_for(config):
    before = config.database_url
    database.close_all()
    open_database(NOWHERE)
    try:
        assert trying.try_task("handle_arrival", _call(config), {"arrival_id": 1}) == trying.TRY_AGAIN_STATUS
    finally:
        open_database(before)
    away = replace(config, database_url=NOWHERE)
    with pytest.raises(trying.PassingError, match="is tried again"):
        trying._do_alone("handle_arrival", _call(away), {"arrival_id": 1})
