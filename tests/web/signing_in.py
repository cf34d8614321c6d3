"""Coming in with a name and a password, as a browser does."""

import re
from dataclasses import dataclass, replace

from nicelevel.desk.doors import new_person
from nicelevel.store.database import database
from nicelevel.web import create_app

PASSWORD = "a few words together do"
HOST = "studio.example"


def app_with_accounts(config, **settings):
    """The application as others reach it."""
    made = replace(config, accounts=True, hosts=(HOST, "localhost"), **settings)
    app = create_app(made, made.database_url)
    database.connect(reuse_if_open=True)  # naming the database let go of the test's own connection
    return app


@dataclass
class Browser:
    """Somebody's browser: pages of ours give it its token."""

    client: object

    def get(self, path, **more):
        return self.client.get(path, base_url=f"http://{HOST}", **more)

    def token(self, path):
        return re.search(r'(?:csrf-token" content|csrf_token" value)="([^"]+)"', self.get(path).text).group(1)

    def post(self, path, data=None, page="/sign-in", **more):
        token = self.token(page)
        headers = {"X-CSRFToken": token, "Accept": "application/json", **more.pop("headers", {})}
        return self.client.post(path, data=data or {}, base_url=f"http://{HOST}", headers=headers, **more)

    def sign_in(self, name, password=PASSWORD, **more):
        return self.post("/sign-in", {"name": name, "password": password, **more})


def browser_of(app, name=None, roles=("engineer",), password=PASSWORD):
    """A browser, of somebody new who is signed in with it where a name is given."""
    browser = Browser(app.test_client())
    if name:
        new_person(name, roles, password)
        assert browser.sign_in(name, password).status_code == 302
    return browser
