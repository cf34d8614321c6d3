"""What pages are made of is kept by browsers until it is another, and never for longer."""

import re

import pytest

from nicelevel.web import create_app, static_files
from nicelevel.web.static_files import FOLDER, version_of

PRESENT = version_of(FOLDER)


def test_every_page_asks_for_its_parts_by_what_they_are(client, job):
    for path in ("/", f"/jobs/{job.id}", "/specs/", "/nowhere"):
        page = client.get(path, headers={"Accept": "text/html"}, follow_redirects=True).text
        parts = re.findall(r'(?:src|href)="/static/([^/"]+)/([^"]+)"', page)
        assert len(parts) > 3
        assert {version for version, _ in parts} == {PRESENT}
        assert all((FOLDER / name).is_file() for _, name in parts)


def test_they_are_kept_for_a_year_and_not_asked_for_again(client):
    answer = client.get(f"/static/{PRESENT}/look.css")
    assert answer.data == (FOLDER / "look.css").read_bytes()
    assert answer.headers["Cache-Control"] == "public, max-age=31536000, immutable"


@pytest.mark.parametrize("version", ["0123456789abcdef", "now"])
def test_a_page_from_before_an_update_gets_what_there_is_and_keeps_nothing(client, version):
    answer = client.get(f"/static/{version}/board/board.js")
    assert answer.data == (FOLDER / "board/board.js").read_bytes()
    assert "immutable" not in answer.headers["Cache-Control"]
    assert "max-age=0" in answer.headers["Cache-Control"] or "no-cache" in answer.headers["Cache-Control"]


def test_what_is_put_in_place_while_a_server_runs_is_not_kept_by_its_name(config, store, tmp_path, monkeypatch):
    folder = tmp_path / "static"
    folder.mkdir()
    for name in ("changed.js", "same.js"):
        (folder / name).write_text("one")
    monkeypatch.setattr(static_files, "FOLDER", folder)
    client, version = create_app(config, config.database_url).test_client(), version_of(folder)
    (folder / "changed.js").write_text("another")
    changed, same = (client.get(f"/static/{version}/{name}") for name in ("changed.js", "same.js"))
    assert (changed.text, same.text) == ("another", "one")
    assert "immutable" not in changed.headers["Cache-Control"]
    assert "immutable" in same.headers["Cache-Control"]


def test_any_change_gives_them_another_name(tmp_path):
    (tmp_path / "inner").mkdir()
    first = tmp_path / "inner" / "a.js"
    first.write_text("one")
    names = [version_of(tmp_path)]
    first.write_text("two")
    names.append(version_of(tmp_path))
    first.rename(tmp_path / "b.js")
    names.append(version_of(tmp_path))
    (tmp_path / "c.css").touch()
    names.append(version_of(tmp_path))
    assert len(set(names)) == 4
    assert version_of(tmp_path) == names[-1]
