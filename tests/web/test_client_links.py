"""A signed link: what a client sees, hears, says; what it does not open."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from nicelevel.desk import client_links
from nicelevel.store.client_links import links_of
from nicelevel.store.deliverables import deliverables_of
from nicelevel.store.door_models import ClientAnswer, ClientLink, JournalEntry
from nicelevel.web import create_app
from tests import signals

from .signing_in import HOST, app_with_accounts, browser_of
from .uploading import JSON, upload, wav


@pytest.fixture
def proved(client, job, work_off):
    upload(client, job, "Night ferry.wav", wav(signals.programme(9, seed=2)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    return deliverables_of(job.id, ["proved"])


def made_link(client, job, **fields):
    answer = client.post(f"/jobs/{job.id}/links", data={"client": "The ferry", "days": "30", **fields}, headers=JSON)
    assert answer.status_code == 200, answer.json
    return answer.json["address"].removeprefix("http://localhost")


def journal_of(job):
    return [(each.who, each.words) for each in JournalEntry.select().where(JournalEntry.job == job).order_by("id")]


def test_who_has_the_link_sees_the_files_their_figures_and_papers(client, job, proved):
    address = made_link(client, job)
    page = client.get(address)
    for each in proved:
        assert each.file_name.rpartition("/")[2] in page.text
    assert "no-store" in page.headers["Cache-Control"]
    assert page.headers["Referrer-Policy"] == "no-referrer"
    assert page.headers["X-Robots-Tag"] == "noindex"
    sheet = client.get(f"{address}1/proof")
    assert proved[0].sha256[:16] in sheet.text.replace(" ", "").replace("\n", "")
    assert client.get(f"{address}1/proof.pdf").data[:5] == b"%PDF-"
    assert f"/jobs/{job.id}" not in page.text


def test_files_are_downloaded_where_that_is_allowed_alone(client, job, proved):
    assert client.get(f"{made_link(client, job)}1/file").status_code == 404
    free = client.get(f"{made_link(client, job, may_fetch='1')}1/file")
    assert free.status_code == 200
    assert len(free.data) == proved[0].size_bytes


def test_a_file_and_its_mix_are_heard_at_one_loudness(client, job, proved):
    address = made_link(client, job)
    transport = client.get(f"{address}1/hear").text
    assert transport.count("data-take=") == 2
    assert 'data-hear="less"' not in transport
    seconds = {}
    for role in ("source", "made"):
        answer = client.get(f"{address}1/hear/{role}/48000/2")
        seconds[role] = np.frombuffer(answer.data, "<f4").reshape(-1, 2)
        assert len(seconds[role]) == 48_000
    gains = [float(part.split('"')[0]) for part in transport.split('data-gain="')[1:]]
    level = {role: 10 * np.log10(np.mean(np.square(each))) for role, each in seconds.items()}
    assert level["source"] + gains[0] == pytest.approx(level["made"] + gains[1], abs=0.2)
    assert client.get(f"{address}1/hear/other/48000/2", headers=JSON).status_code == 404


def test_what_is_said_stands_on_the_handover_and_in_the_journal(client, job, proved):
    address = made_link(client, job)
    change = {"verdict": "change", "note": "More air at the end.", "from_s": "0:07.5"}
    assert client.post(f"{address}1/answer", data=change, headers=JSON).json == {"said": "change"}
    assert client.post(f"{address}2/answer", data={"verdict": "accepted"}, headers=JSON).json == {"said": "accepted"}
    said = [(each.verdict, each.note, each.from_s) for each in ClientAnswer.select().order_by(ClientAnswer.id)]
    assert said == [("change", "More air at the end.", 7.5), ("accepted", "", None)]
    screen = client.get(f"/jobs/{job.id}/handover").text
    assert "please change" in screen
    assert "More air at the end." in screen
    told = journal_of(job)
    second = links_of(job.id)[0].files[1]["path"]
    assert ("The ferry (client)", f"accepted {second}") in told
    assert any(who == "The ferry (client)" and "More air at the end." in words for who, words in told)
    # The latest word counts, and what was said before stays.
    client.post(f"{address}1/answer", data={"verdict": "accepted"}, headers=JSON)
    client.post(f"{address}1/answer", data={"verdict": "accepted"}, headers=JSON)
    assert ClientAnswer.select().count() == 3
    page = client.get(f"{address}files").text
    assert page.count('<span class="good">accepted</span>') == 2
    assert "More air at the end." in page


@pytest.mark.parametrize(
    ("fields", "sentence"),
    [
        ({"verdict": "change", "note": " "}, "Say what should be changed."),
        ({"verdict": "perhaps"}, "accepted"),
        ({"verdict": "change", "note": "x", "from_s": "9:99:x"}, "no time"),
        ({"verdict": "change", "note": "x", "from_s": "3:00"}, "no time"),
        ({"verdict": "change", "note": "x", "from_s": "-1"}, "no time"),
        ({"verdict": "change", "note": "x", "from_s": "nan"}, "no time"),
        ({"verdict": "change", "note": "x" * 4001}, "4000 signs"),
    ],
)
def test_what_says_nothing_is_asked_again(client, job, proved, fields, sentence):
    answer = client.post(f"{made_link(client, job)}1/answer", data=fields, headers=JSON)
    assert answer.status_code == 422
    assert sentence in answer.json["error"]["message"]
    assert ClientAnswer.select().count() == 0


@pytest.mark.parametrize("fields", [{"client": " "}, {"client": "x" * 61}, {"days": "0"}, {"days": "366"}])
def test_a_link_is_for_somebody_for_some_time(client, job, proved, fields):
    asked = {"client": "A", "days": "3", **fields}
    assert client.post(f"/jobs/{job.id}/links", data=asked, headers=JSON).status_code == 422


def test_a_link_to_nothing_is_not_made(client, job):
    assert client.post(f"/jobs/{job.id}/links", data={"client": "A"}, headers=JSON).status_code == 422


def test_a_link_that_is_over_or_not_ours_opens_nothing(client, job, proved, app):
    address, other = made_link(client, job), made_link(client, job)
    link = ClientLink.get_by_id(links_of(job.id)[1].id)
    token = address.split("/")[2]
    forged = [token[:-1] + ("A" if token[-1] != "A" else "B"), "x", token.partition(".")[0], token.upper()]
    foreign = client_links.signed(link, "another secret")
    assert foreign != token
    sentences = set()
    for each in (*forged, foreign):
        for path in ("", "files", "1/hear", "1/proof", "1/file", "1/hear/made/48000/0"):
            answer = client.get(f"/for/{each}/{path}", headers=JSON)
            assert answer.status_code == 404, (each, path)
        sentences.add(client.get(f"/for/{each}/").text)
    ClientLink.update(expires_at=datetime.now(UTC) - timedelta(seconds=1)).where(ClientLink.id == link.id).execute()
    sentences.add(client.get(address).text)
    assert client.get(f"{address}1/proof", headers=JSON).status_code == 404
    client.post(f"/links/{links_of(job.id)[0].id}/withdraw", headers=JSON)
    sentences.add(client.get(other).text)
    assert client.post(f"{other}1/answer", data={"verdict": "accepted"}, headers=JSON).status_code == 404
    # One page for all of it: nothing is told about what there was.
    assert len(sentences) == 1


def test_a_job_in_the_trash_shows_nothing(client, job, proved):
    address = made_link(client, job)
    client.post(f"/jobs/{job.id}/delete", headers=JSON)
    assert client.get(address).status_code == 404


def test_what_was_made_anew_is_not_what_was_shown(client, job, proved, work_off):
    """Who accepts a file accepts these bytes, and no others that come under its name."""
    address = made_link(client, job)
    made = proved[0]
    type(made).update(sha256="0" * 64).where(type(made).id == made.id).execute()
    assert "was made anew since" in client.get(address).text
    late = client.post(f"{address}1/answer", data={"verdict": "accepted"}, headers=JSON)
    assert (late.status_code, "another link" in late.json["error"]["message"]) == (404, True)
    assert client.get(f"{address}1/hear/made/48000/0", headers=JSON).status_code == 404


def test_a_client_needs_no_account_and_gets_nowhere_else(config, client, job, proved):
    address = made_link(client, job)
    app = app_with_accounts(config)
    stranger = browser_of(app)
    assert stranger.get(address).status_code == 200
    for path in (f"/jobs/{job.id}", f"/jobs/{job.id}/handover", f"/deliverables/{proved[0].id}/file", "/changes"):
        assert stranger.get(path, headers=JSON).status_code == 401
    # What changes something needs the token of the page that was shown.
    bare = stranger.client.post(f"{address}1/answer", data={"verdict": "accepted"}, base_url=f"http://{HOST}")
    assert bare.status_code == 400
    assert stranger.post(f"{address}1/answer", {"verdict": "accepted"}, page=address).status_code == 200


def test_who_may_not_fetch_files_is_not_told_the_address_of_a_link_that_does(config, client, job, proved):
    address = made_link(client, job, may_fetch="1")
    app = app_with_accounts(config)
    listener, engineer = browser_of(app, "Ear", ("listener",)), browser_of(app, "One")
    path = f"/jobs/{job.id}"
    assert address in engineer.get(f"{path}/handover").text
    assert address not in listener.get(f"{path}/handover").text
    assert engineer.get(f"{path}/links", headers=JSON).status_code == 200
    assert listener.get(f"{path}/links", headers=JSON).status_code == 403


def test_links_are_as_good_as_the_secret_that_signs_them(config, client, job, proved):
    address = made_link(client, job)
    again = create_app(config, config.database_url).test_client()
    assert again.get(address).status_code == 200
