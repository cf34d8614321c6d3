"""Seen from outside: health, metrics, and one id through web, queue and worker."""

import json
import logging
import re
from datetime import UTC, datetime, timedelta

import pytest
from prometheus_client.parser import text_string_to_metric_families

from nicelevel.core.arrivals.settings import line_of
from nicelevel.logs import arrange_logs, begin_trace, trace
from nicelevel.store.arrivals import add_arrival
from nicelevel.store.database import database
from nicelevel.store.lines import add_line
from nicelevel.work import trying
from nicelevel.work.trying import TRACE
from tests import signals

from .signing_in import HOST, app_with_accounts, browser_of
from .uploading import JSON, upload, wav


def metrics(client, **more):
    answer = client.get("/metrics", **more)
    assert answer.status_code == 200
    found = {}
    for family in text_string_to_metric_families(answer.text):
        for each in family.samples:
            found[each.name, tuple(sorted(each.labels.items()))] = each.value
    return found


def a_worker():
    database.execute_sql("INSERT INTO procrastinate_workers DEFAULT VALUES")


def test_health_says_what_is_the_matter(client, store, monkeypatch):
    sick = client.get("/health")
    assert (sick.status_code, sick.json["problems"]) == (503, ["No worker is at work: what is queued waits."])
    a_worker()
    assert client.get("/health").json == {"status": "well", "problems": []}
    monkeypatch.setattr("nicelevel.web.matter.LEAST_FREE_BYTES", 10**18)
    assert client.get("/health").json["problems"] == ["The disk of the data folder is nearly full."]


def test_health_is_asked_by_whoever_watches_and_figures_by_operators(config, store):
    app = app_with_accounts(config)
    stranger = browser_of(app)
    assert stranger.get("/health").status_code in (200, 503)
    assert stranger.get("/metrics", headers=JSON).status_code == 401
    assert browser_of(app, "One").get("/metrics", headers=JSON).status_code == 403
    assert browser_of(app, "Boss", ("operator",)).get("/metrics").status_code == 200


def test_figures_are_those_of_queue_work_and_disk(client, job, work_off):
    upload(client, job, "Night ferry.wav", wav(signals.programme(6, seed=2)))
    upload(client, job, "broken.wav", b"RIFF")
    database.execute_sql("UPDATE procrastinate_events SET at = at - interval '90 seconds'")
    waiting = metrics(client)
    task = (("task", "measure_source"),)
    assert waiting["nice_level_queue_waiting", task] == 2
    assert 90 <= waiting["nice_level_queue_oldest_seconds", task] < 150
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    done = metrics(client)
    assert ("nice_level_queue_waiting", task) not in done
    assert done["nice_level_rendered_last_hour", (("state", "proved"),)] >= 2
    assert 0 < done["nice_level_render_seconds_last_hour", (("quantile", "0.5"), ("state", "proved"))] < 120
    assert done["nice_level_disk_free_bytes", ()] > 0
    key = (("endpoint", "sources.upload"), ("method", "POST"), ("status", "200"))
    assert done["nice_level_request_seconds_count", key] >= 1
    # What is looked at later than an hour ago does not count.
    database.execute_sql("UPDATE deliverable SET finished_at = finished_at - interval '2 hours'")
    assert ("nice_level_rendered_last_hour", (("state", "proved"),)) not in metrics(client)


def test_lines_say_what_is_late_missing_and_held(client, store, tmp_path):
    line = add_line(line_of({"name": 'Tide "b"\n', "folder": str(tmp_path)}))
    now = datetime.now(UTC)
    for number, (state, late, age_h) in enumerate(
        [("published", True, 1), ("missing", False, 2), ("held", False, 3), ("held", True, 30)]
    ):
        add_arrival(line, f"{number}.wav", str(number), now - timedelta(hours=age_h), state=state, is_late=late)
    found = metrics(client)
    named = (("line", 'Tide "b"'),)
    told = [found[f"nice_level_arrivals_{each}_last_day", named] for each in ("late", "missing", "held")]
    assert told == [1, 1, 1]


@pytest.mark.parametrize(
    ("given", "kept"), [("abc-1.2_Z", True), ("", False), ("a b", False), ("x\n", False), ("y" * 65, False)]
)
def test_a_request_has_the_id_that_it_brings_or_a_new_one(client, store, given, kept):
    answer = client.get("/runs", headers={"X-Request-ID": given} if "\n" not in given else {})
    got = answer.headers["X-Request-ID"]
    assert (got == given) == kept
    assert re.fullmatch(r"[A-Za-z0-9._-]{1,64}", got)


def test_the_id_goes_along_on_the_queue_to_the_worker_and_what_that_asks_for(client, job, work_off, monkeypatch):
    worked, do = [], trying.do_here
    monkeypatch.setattr(trying, "do_here", lambda name, *told: worked.append((name, trace())) or do(name, *told))
    client.post(
        f"/jobs/{job.id}/sources",
        query_string={"name": "Night ferry.wav"},
        data=wav(signals.programme(6, seed=2)),
        headers={**JSON, "X-Request-ID": "asked-for-by-me"},
    )
    (args,) = database.execute_sql("SELECT args FROM procrastinate_jobs").fetchone()
    assert args[TRACE] == "asked-for-by-me"
    begin_trace()
    work_off()
    assert {name for name, _ in worked} > {"measure_source"}
    assert {told for _, told in worked} == {"asked-for-by-me"}


def test_logs_are_lines_of_json_with_what_a_program_looks_for(capsys):
    before = logging.getLogger().handlers[:]
    try:
        arrange_logs("web", as_json=True)
        begin_trace("one-id")
        logging.getLogger("nicelevel.web").warning("two\nlines of %s", "it", extra={"status": 503})
        try:
            raise ValueError("why")
        except ValueError:
            logging.getLogger("nicelevel.web").exception("failed")
        lines = [json.loads(each) for each in capsys.readouterr().err.splitlines()]
        arrange_logs("worker", as_json=False)
        logging.getLogger("nicelevel.work").info("done")
        plain = capsys.readouterr().err
    finally:
        logging.basicConfig(handlers=before, force=True)
    told = lines[0]
    assert (told["message"], told["part"], told["trace"]) == ("two\nlines of it", "web", "one-id")
    assert (told["level"], told["status"]) == ("WARNING", 503)
    assert "ValueError: why" in lines[1]["exc_info"]
    assert "worker INFO [one-id] done" in plain


def test_what_opens_a_door_is_not_in_the_log(config, store, caplog):
    caplog.set_level(logging.INFO)
    browser = browser_of(app_with_accounts(config))
    token = browser.token("/sign-in")
    for path in ("/invited/secret-of-mine", "/for/link-of-mine/1/answer"):
        browser.client.post(path, data={"csrf_token": token, "password": "p" * 20}, base_url=f"http://{HOST}")
    told = " ".join(record.getMessage() for record in caplog.records)
    assert "doors.choose" in told
    assert "of-mine" not in told
    assert "ppp" not in told
