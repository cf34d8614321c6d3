"""The application under test, by Flask's own client."""

import pytest

from nicelevel.store.models import Job
from nicelevel.web import create_app


@pytest.fixture
def app(config):
    made = create_app(config, config.database_url)
    made.config["WTF_CSRF_ENABLED"] = False
    return made


@pytest.fixture
def client(app):
    return app.test_client()


@pytest.fixture
def job(client, store):
    return Job.get_by_id(
        client.post("/jobs", data={"title": "Work"}, headers={"Accept": "application/json"}).json["id"]
    )
