"""The Arrivals screen by Flask's own client: lines drawn, changed and kept as TOML, the day, what can be done."""

import csv
import io
import re
import tomllib
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import numpy as np
import pytest

from nicelevel.core.arrivals.settings import parse_line
from nicelevel.store.arrivals import add_arrival, find_arrival
from nicelevel.store.lines import find_line, lines, settings_of
from nicelevel.store.models import Arrival
from nicelevel.work.watching import Watcher
from tests import signals
from tests.work.settling import SETTLE_S, settled

from .signing_in import app_with_accounts, browser_of
from .uploading import JSON


@pytest.fixture
def told(tmp_path, store):
    (tmp_path / "in").mkdir()
    return {
        "name": "Tide bulletin",
        "folder": str(tmp_path / "in"),
        "publish": str(tmp_path / "air"),
        "spec": "european-broadcast",
        "recipe": "clean-head",
        "under": "bulletin",
        "settle_s": str(SETTLE_S),
        "shortest_s": "2",
        "runs": "on",
    }


@pytest.fixture
def line(client, told):
    answer = client.post("/arrivals/lines/", data=told, headers=JSON)
    return find_line(answer.json["line"])


@pytest.fixture
def come(config, work_off, tmp_path):
    """Have something come and be worked off; its row."""
    watcher = Watcher(config)

    def came(name, seconds, seed=1, lufs=-33):
        signals.write(tmp_path / "in" / name, signals.noise(seconds, lufs, seed=seed))
        assert settled(watcher) == 1
        work_off()
        return Arrival.select().order_by(Arrival.id.desc()).first()

    return came


def test_without_a_line_the_page_says_what_one_is(client):
    page = client.get("/arrivals/").text
    assert "There is no line yet." in page
    assert 'aria-current="page">Arrivals' in page


def test_a_line_is_drawn_changed_exported_and_taken_in_again(client, line, told):
    assert settings_of(line).shortest_s == 2.0
    page = client.get(f"/arrivals/lines/{line.id}").text
    assert 'value="Tide bulletin"' in page
    assert re.search(r'<option value="clean-head" selected', page)
    client.post(
        f"/arrivals/lines/{line.id}", data={**told, "expected": "0 * * * *", "longest_s": "300"}, headers=JSON
    )
    changed = settings_of(find_line(line.id))
    assert (changed.expected, changed.longest_s) == ("0 * * * *", 300.0)
    answer = client.get(f"/arrivals/lines/{line.id}.toml")
    assert 'filename="tide-bulletin.toml"' in answer.headers["Content-Disposition"]
    assert parse_line(answer.text) == changed
    assert "runs" not in tomllib.loads(answer.text)["line"]
    taken = client.post("/arrivals/lines/import?name=x.toml", data=answer.data, headers=JSON).json["line"]
    assert settings_of(find_line(taken)) == changed.model_copy(update={"runs": False})
    client.post(f"/arrivals/lines/{line.id}/delete", headers=JSON)
    assert [each.id for each in lines()] == [taken]
    assert client.post("/arrivals/undo", headers=JSON).json["undone"] == "took the line Tide bulletin away"
    assert {each.id for each in lines()} == {line.id, taken}
    assert client.post("/specs/undo", headers=JSON).json["undone"] is None  # that is not a matter of specs


@pytest.mark.parametrize(
    ("wrong", "sentence"),
    [
        ({"name": " "}, "name"),
        ({"folder": "bulletins"}, "from the root on"),
        ({"folder": ""}, "a folder that it comes from"),
        ({"publish": ""}, "published into some folder"),
        ({"spec": "none-such"}, "none-such"),
        ({"recipe": "none-such"}, "no such recipe"),
        ({"expected": "every hour"}, "no words of cron"),
        ({"expected": "61 * * * *"}, "no words of cron"),
        ({"under": "{colour}"}, "{title}, {hour} and {date}"),
        ({"settle_s": "soon"}, "settle s"),
        ({"shortest_s": "-1"}, "shortest s"),
        ({"longest_s": "1"}, "shorter than the shortest"),
        ({"afterwards": "move"}, "put away"),
        ({"when_nothing": "stand_in"}, "stands in"),
        ({"hook": "ftp://x"}, "no address"),
    ],
)
def test_what_is_no_line_has_its_sentence_and_nothing_is_kept(client, told, wrong, sentence):
    answer = client.post("/arrivals/lines/", data={**told, **wrong}, headers=JSON)
    assert answer.status_code == 422
    assert sentence.lower() in answer.json["error"]["message"].lower()
    assert lines() == []


def test_a_line_may_not_take_in_what_it_publishes(client, told):
    answer = client.post("/arrivals/lines/", data={**told, "publish": told["folder"]}, headers=JSON)
    assert "take that in again" in answer.json["error"]["message"]


def test_with_accounts_lines_stay_in_their_folders(config, told, tmp_path, work_off):
    """Who may draw a line may read and write where the operator of the machine said, and nowhere else."""
    for bounds, inside in (((), False), ((str(tmp_path / "other"),), False), ((str(tmp_path),), True)):
        app = app_with_accounts(config, line_folders=bounds)
        operator = browser_of(app, f"Boss of {len(bounds)} {inside}", ("operator",))
        answer = operator.post("/arrivals/lines/", told, page="/recipes/")
        assert (answer.status_code == 200) == inside, answer.json
        if not inside:
            assert "NICE_LEVEL_LINE_FOLDERS" in answer.json["error"]["message"]
    (tmp_path / "in" / "out").symlink_to("/etc")
    answer = operator.post("/arrivals/lines/", {**told, "publish": str(tmp_path / "in" / "out")}, page="/recipes/")
    assert "/out is none of the folders" in answer.json["error"]["message"]
    # What was drawn before the bounds were set is not looked into any more, and says so.
    Watcher(replace(config, accounts=True)).look()
    assert "none of the folders that lines may be in" in lines()[0].trouble


def test_the_day_shows_what_came_and_what_became_of_it(client, line, come):
    good, held = come("one.wav", 3), come("two.wav", 1, seed=2)
    page = client.get("/arrivals/?width=1280").text
    assert "2 came in, 1 published, 1 held back" in page
    assert f'data-chosen="{held.id}"' in page  # what is held is shown first
    assert "one.wav of " in page
    assert "Publish it all the same" in page
    assert page.count('class="wave-line"') == 2  # as it came, and what was left of it
    shown = client.get(f"/arrivals/parts?arrival={good.id}").text
    assert "on air" in shown
    assert "proved, and published as bulletin.wav" in shown
    yesterday = (date.today() - timedelta(days=1)).isoformat()
    assert "yesterday" in client.get(f"/arrivals/?day={yesterday}").text
    assert client.get("/arrivals/?day=soon").status_code == 404


def test_what_is_held_is_published_all_the_same_and_the_one_before_put_back(client, line, come, work_off, tmp_path):
    come("one.wav", 3)
    on_air = (tmp_path / "air" / "bulletin.wav").read_bytes()
    held = come("two.wav", 1, seed=2)
    assert client.post(f"/arrivals/{held.id}/all-the-same", headers=JSON).status_code == 200
    assert client.post(f"/arrivals/{held.id}/again", headers=JSON).status_code == 422  # it is under way
    work_off()
    assert find_arrival(held.id).state == "published"
    assert (tmp_path / "air" / "bulletin.wav").read_bytes() != on_air
    assert "Put the one before back" in client.get(f"/arrivals/parts?arrival={held.id}").text
    answer = client.post(f"/arrivals/lines/{line.id}/put-back", data={"under": "bulletin"}, headers=JSON)
    assert answer.json["of"] == "one.wav"
    assert (tmp_path / "air" / "bulletin.wav").read_bytes() == on_air
    assert client.post(f"/arrivals/lines/{line.id}/put-back", data={"under": "x"}, headers=JSON).status_code == 404


def test_both_are_heard_by_the_second(client, line, come):
    arrival = come("one.wav", 3)
    page = client.get(f"/arrivals/parts?arrival={arrival.id}").text
    rate = re.search(r'data-rate="(\d+)"', page)[1]
    levels = {}
    for role in ("came", "out"):
        assert f"/arrivals/{arrival.id}/hear/{role}/{rate}" in page
        heard = np.frombuffer(client.get(f"/arrivals/{arrival.id}/hear/{role}/{rate}/1").data, "<f4")
        assert len(heard) == 2 * int(rate)
        levels[role] = 10 * np.log10(np.mean(np.square(heard)))
    made = arrival.figures["made"]["lufs"] - arrival.figures["came"]["lufs"]
    assert levels["out"] - levels["came"] == pytest.approx(made, abs=0.3)
    assert client.get(f"/arrivals/{arrival.id}/hear/less/{rate}/1").status_code == 404


def test_a_day_in_figures_and_as_csv_with_what_has_changed(client, line, come):
    """Eleven that came at −28, then five at −32 LUFS: named. An odd one alone would not be."""
    arrival = come("one.wav", 3)
    now = datetime.now(UTC)
    for number in range(16):
        lufs = -28.0 + 0.1 * (number % 3) if number < 11 else -32.0
        came = {**arrival.figures["came"], "lufs": lufs}
        at = now - timedelta(hours=60 - 3 * number)
        add_arrival(line, f"{number}.wav", f"x{number}", at, state="noted", figures={"came": came}, told=[])
    Arrival.update(figures={}).where(Arrival.id == arrival.id).execute()
    page = client.get(f"/arrivals/lines/{line.id}/{date.today()}").text
    assert re.search(r"What comes has been [34]\.\d LU quieter since ", page)
    text = client.get(f"/arrivals/lines/{line.id}/{date.today()}.csv").data.decode("utf-8-sig")
    rows = list(csv.reader(io.StringIO(text)))
    assert rows[0][:4] == ["Came", "Expected", "Late by, s", "File"]
    assert "one.wav" in [row[3] for row in rows[1:]]
    assert client.get(f"/arrivals/lines/{line.id}/never").status_code == 404


def test_what_is_gone_is_404(client):
    for address in ("/arrivals/lines/99", "/arrivals/lines/99.toml"):
        assert client.get(address).status_code == 404
    assert client.post("/arrivals/99/again", headers=JSON).status_code == 404


def test_texts_of_files_are_shown_as_texts(client, line, come):
    come("<b>x<script>.wav".replace("/", ""), 3)
    page = client.get("/arrivals/").text
    assert "<b>x" not in page
    assert "&lt;b&gt;x" in page
