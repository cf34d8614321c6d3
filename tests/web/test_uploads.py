"""tus 1.0.0 as https://tus.io/protocols/resumable-upload has it: creation, offsets, conflicts, termination."""

import base64
import hashlib

import pytest

from nicelevel.desk import intake
from nicelevel.store.models import Source
from nicelevel.store.sources import sources_of
from nicelevel.web import uploads
from tests import signals

from .uploading import JSON, wav

PIECE = {**JSON, "Content-Type": "application/offset+octet-stream"}


def _metadata(**told):
    return ",".join(f"{key} {base64.b64encode(value.encode()).decode()}" for key, value in told.items())


@pytest.fixture
def begin(client, job):
    def create(size, name="Ä mix.wav", **more):
        headers = {**JSON, "Upload-Length": str(size), "Upload-Metadata": _metadata(filename=name, **more)}
        return client.post(f"/jobs/{job.id}/uploads", headers=headers)

    return create


def _send(client, address, offset, data):
    return client.patch(address, headers={**PIECE, "Upload-Offset": str(offset)}, data=data)


def test_the_server_says_what_it_can(client, job):
    answer = client.options(f"/jobs/{job.id}/uploads")
    assert answer.status_code == 204
    assert answer.headers["Tus-Version"] == "1.0.0"
    assert "creation" in answer.headers["Tus-Extension"]


def test_pieces_become_a_source(client, job, begin, config):
    data = wav(signals.noise(1))
    begun = begin(len(data), changed="1700000000000")
    assert begun.status_code == 201
    address = begun.headers["Location"]
    for first in range(0, len(data), 100_000):
        answer = _send(client, address, first, data[first : first + 100_000])
        assert answer.status_code == 204
        assert answer.headers["Upload-Offset"] == str(min(len(data), first + 100_000))
        assert answer.headers["Tus-Resumable"] == "1.0.0"
    (source,) = sources_of(job.id)
    assert (source.file_name, source.digest) == ("Ä mix.wav", hashlib.sha256(data).hexdigest())
    assert source.changed_at.year == 2023
    assert list(config.uploads_folder.iterdir()) == []


def test_how_far_it_is_can_be_asked_also_of_another_process(client, job, begin):
    data = wav(signals.noise(1))
    address = begin(len(data)).headers["Location"]
    _send(client, address, 0, data[:50_000])
    uploads._digests._known.clear()
    answer = client.head(address)
    assert (answer.headers["Upload-Offset"], answer.headers["Upload-Length"]) == ("50000", str(len(data)))
    assert client.get(f"/jobs/{job.id}/uploads").json["uploads"][0]["done_bytes"] == 50_000
    _send(client, address, 50_000, data[50_000:])
    assert sources_of(job.id)[0].digest == hashlib.sha256(data).hexdigest()


def test_a_piece_that_does_not_follow_on_is_refused_and_changes_nothing(client, begin):
    address = begin(1000).headers["Location"]
    _send(client, address, 0, b"a" * 400)
    assert _send(client, address, 0, b"b" * 400).status_code == 409
    assert _send(client, address, 500, b"b" * 400).status_code == 409
    assert client.head(address).headers["Upload-Offset"] == "400"


def test_more_than_was_announced_is_not_taken(client, begin, config):
    address = begin(1000).headers["Location"]
    answer = _send(client, address, 0, b"a" * 5000)
    assert answer.headers["Upload-Offset"] == "1000"
    assert Source.get().size_bytes == 1000


def test_what_was_all_there_when_the_server_died_is_taken_in_by_who_asks(client, job, begin, config, monkeypatch):
    data = wav(signals.noise(1))
    address = begin(len(data)).headers["Location"]

    def die(*_, **__):
        raise KeyboardInterrupt

    monkeypatch.setattr(uploads, "enqueue_source", die)
    with pytest.raises(KeyboardInterrupt):
        _send(client, address, 0, data)
    monkeypatch.undo()
    assert client.head(address).headers["Upload-Offset"] == str(len(data))
    assert [source.digest for source in sources_of(job.id)] == [hashlib.sha256(data).hexdigest()]
    assert client.head(address).status_code == 404


def test_what_does_not_fit_is_refused_before_it_is_sent(client, begin, monkeypatch):
    monkeypatch.setattr(intake, "ROOM_BYTES", 10**18)
    answer = begin(1000)
    assert answer.status_code == 507
    assert "There is no room for" in answer.json["error"]["message"]


def test_what_is_too_large_is_refused_before_it_is_sent(begin, config):
    assert begin(config.largest_upload_bytes + 1).status_code == 413


def test_an_upload_can_be_stopped(client, begin, config):
    address = begin(1000).headers["Location"]
    _send(client, address, 0, b"a" * 400)
    assert client.delete(address, headers=JSON).status_code == 204
    assert client.head(address).status_code == 404
    assert list(config.uploads_folder.iterdir()) == []


@pytest.mark.parametrize("key", ["0" * 32, "..%2f..%2fetc", "x"])
def test_what_was_never_begun_is_not_there(client, key):
    assert client.head(f"/uploads/{key}").status_code == 404
