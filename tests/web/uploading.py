"""Uploads for the tests of the routes."""

import io

import soundfile

JSON = {"Accept": "application/json"}


def wav(signal, **options):
    file = io.BytesIO()
    soundfile.write(file, signal, 48_000, options.pop("subtype", "PCM_24"), format="WAV", **options)
    return file.getvalue()


def upload(client, job, name, data):
    return client.post(f"/jobs/{job.id}/sources", query_string={"name": name}, data=data, headers=JSON)
