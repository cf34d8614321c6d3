"""Doors: who comes in, what each role may do, what guessing and stealing come to."""

import time
from datetime import UTC, datetime, timedelta
from hashlib import sha256

import pytest

from nicelevel.core.errors import SpecError
from nicelevel.desk import doors as desk_doors
from nicelevel.desk.doors import change_password, change_roles, end_account, new_invitation, new_person, new_token
from nicelevel.desk.rights import RIGHTS_OF
from nicelevel.store.database import database
from nicelevel.store.door_models import FailedSignIn, JournalEntry, Person, SignIn, Token
from nicelevel.web import create_app
from nicelevel.web.gate import OPEN, RIGHT_OF, right_for

from .signing_in import HOST, PASSWORD, Browser, app_with_accounts, browser_of

JSON = {"Accept": "application/json"}
PAGE = {"Accept": "text/html"}


@pytest.fixture
def app(config, store):
    return app_with_accounts(config)


def test_nobody_is_let_in_without_an_account(app):
    browser = browser_of(app)
    answer = browser.get("/jobs/1?x=1", headers=PAGE)
    assert (answer.status_code, answer.location) == (302, "/sign-in?next=/jobs/1?x%3D1")
    assert browser.get("/changes", headers=JSON).status_code == 401
    assert browser.post("/jobs", {"title": "x"}).json["error"]["code"] == "signed_out"
    assert "nice-level user add" in browser.get("/sign-in").text


def test_who_has_one_comes_in_and_goes_where_they_were_going(app):
    browser = browser_of(app)
    new_person("Engineer One", ["engineer"], PASSWORD)
    answer = browser.sign_in("  engineer one ", next="/recipes/")
    assert (answer.status_code, answer.location) == (302, "/recipes/")
    assert "Engineer One" in browser.get("/recipes/").text
    assert browser.post("/jobs", {"title": "Work"}, page="/recipes/").status_code == 200
    browser.post("/sign-out", page="/recipes/")
    assert browser.get("/recipes/", headers=PAGE).status_code == 302
    assert SignIn.select().count() == 0


@pytest.mark.parametrize(
    "aim", ["//elsewhere.example/", "https://elsewhere.example/", "/\\elsewhere.example", "x", ""]
)
def test_signing_in_never_leads_to_another_site(app, aim):
    browser = browser_of(app)
    new_person("One", ["engineer"], PASSWORD)
    assert browser.sign_in("One", next=aim).location == "/"


def test_a_wrong_password_and_a_name_that_nobody_has_are_told_the_same(app, monkeypatch):
    looked_at = []
    verify = type(desk_doors._hasher).verify
    monkeypatch.setattr(
        type(desk_doors._hasher),
        "verify",
        lambda self, kept, typed: looked_at.append(kept) or verify(self, kept, typed),
    )
    new_person("One", ["engineer"], PASSWORD)
    new_person("Asked", ["engineer"], None)
    answers = [browser_of(app).sign_in(name, "not the password at all") for name in ("One", "Nobody", "Asked")]
    sentences = {each.text.split('role="alert">')[1].split("<")[0] for each in answers}
    assert sentences == {"That name and password do not belong together."}
    assert {each.status_code for each in answers} == {401}
    # Each costs a look at a hash of the same strength: nothing can be told from the time.
    assert len(looked_at) == 3
    assert {each.split("$")[3] for each in looked_at} == {"m=65536,t=3,p=4"}


def test_guessing_is_held_up_and_told_to_wait(app):
    new_person("One", ["engineer"], PASSWORD)
    browser = browser_of(app)
    assert [browser.sign_in("One", "a wrong password").status_code for _ in range(5)] == [401] * 5
    held = browser.sign_in("One")  # the right one: it is not looked at
    assert held.status_code == 429
    assert "Try again in 15 minutes" in held.text
    # Whoever else comes from elsewhere is not kept out by it, and later nobody is.
    other = Browser(app.test_client())
    token = other.token("/sign-in")
    answer = other.client.post(
        "/sign-in",
        data={"name": "One", "password": PASSWORD, "csrf_token": token},
        base_url=f"http://{HOST}",
        environ_base={"REMOTE_ADDR": "192.0.2.9"},
    )
    assert answer.status_code == 302
    FailedSignIn.update(at=datetime.now(UTC) - timedelta(minutes=16)).execute()
    assert browser.sign_in("One").status_code == 302


def test_one_address_may_not_try_everybody(app, monkeypatch):
    monkeypatch.setattr(desk_doors, "_is_right", lambda person, password: False)
    browser = browser_of(app)
    answers = [browser.sign_in(f"Name {number}", "a wrong password").status_code for number in range(32)]
    assert answers == [401] * 30 + [429] * 2


def test_one_name_may_not_be_tried_from_everywhere(app, store, monkeypatch):
    monkeypatch.setattr(desk_doors, "_is_right", lambda person, password: False)
    for number in range(100):
        with pytest.raises(desk_doors.SignInError):
            desk_doors.sign_in("One", "x", f"192.0.2.{number}", "")
    with pytest.raises(desk_doors.ThrottledError):
        desk_doors.sign_in("One", "x", "198.51.100.1", "")


def test_a_session_that_somebody_else_planted_opens_nothing(app):
    """Session fixation: what the browser brings to the door is not what it leaves with."""
    browser = browser_of(app)
    browser.get("/sign-in")
    name = app.config["SESSION_COOKIE_NAME"]
    planted = browser.client.get_cookie(name, domain=HOST).value
    new_person("One", ["engineer"], PASSWORD)
    browser.sign_in("One")
    assert browser.client.get_cookie(name, domain=HOST).value != planted
    thief = Browser(app.test_client())
    thief.client.set_cookie(name, planted, domain=HOST)
    assert thief.get("/recipes/", headers=PAGE).status_code == 302


def test_a_cookie_is_worth_nothing_once_its_owner_left_or_was_idle(app):
    browser = browser_of(app, "One")
    name = app.config["SESSION_COOKIE_NAME"]
    kept = browser.client.get_cookie(name, domain=HOST).value
    browser.post("/sign-out", page="/recipes/")
    thief = Browser(app.test_client())
    thief.client.set_cookie(name, kept, domain=HOST)
    assert thief.get("/recipes/", headers=PAGE).status_code == 302
    idle = browser_of(app)
    idle.sign_in("One")
    SignIn.update(seen_at=datetime.now(UTC) - timedelta(hours=13)).execute()
    app.extensions["remembered"].forget()
    assert idle.get("/recipes/", headers=PAGE).status_code == 302


def test_a_page_that_is_left_open_keeps_nobody_signed_in(app, monkeypatch):
    monkeypatch.setattr("nicelevel.web.gate.REMEMBERED_S", 0.0)
    browser = browser_of(app, "One")
    SignIn.update(seen_at=datetime.now(UTC) - timedelta(hours=11)).execute()
    for path in ("/changes", "/runs/now"):
        assert browser.get(path).status_code == 200
    assert datetime.now(UTC) - SignIn.get().seen_at > timedelta(hours=10)
    assert browser.get("/recipes/").status_code == 200
    assert datetime.now(UTC) - SignIn.get().seen_at < timedelta(minutes=1)


def test_a_word_that_looks_like_a_token_spares_no_browser_the_token_of_its_page(app):
    browser = browser_of(app, "One")
    headers = {**JSON, "Authorization": "Bearer nl_whatever"}
    bare = browser.client.post("/jobs", data={"title": "x"}, headers=headers, base_url=f"http://{HOST}")
    assert (bare.status_code, bare.json["error"]["code"]) == (400, "stale_page")


def test_a_crowd_at_the_door_is_told_to_wait(app, monkeypatch):
    monkeypatch.setattr(desk_doors, "LONGEST_LOOK_S", 0.05)
    new_person("One", ["engineer"], PASSWORD)
    browser = browser_of(app)
    with desk_doors._AT_ONCE, desk_doors._AT_ONCE:
        assert browser.sign_in("One").status_code == 429
    assert FailedSignIn.select().count() == 0  # nobody is kept out later for it
    assert browser.sign_in("One").status_code == 302


def test_nobody_acts_in_the_name_of_whoever_was_served_before(app):
    one = browser_of(app, "One")
    one.post("/jobs", {"title": "Work"}, page="/recipes/")
    new_person("Two", ["engineer"], PASSWORD)
    browser_of(app).sign_in("Two")
    entry = JournalEntry.select().where(JournalEntry.words == "Two signed in").get()
    assert entry.who == "at the door"


def test_what_is_kept_of_secrets_are_digests(app):
    browser = browser_of(app, "One")
    person = Person.get()
    token = new_token(person, "the night")
    assert person.password_hash.startswith("$argon2id$v=19$m=65536,t=3,p=4$")
    assert Token.get().digest == sha256(token.encode()).hexdigest()
    with browser.client.session_transaction(base_url=f"http://{HOST}") as session:
        key = session["_user_id"]
    assert SignIn.get().digest == sha256(key.encode()).hexdigest()
    said = " ".join(each.words for each in JournalEntry.select())
    assert token not in said
    assert key not in said
    assert PASSWORD not in said


def test_cookies_are_for_pages_of_ours_and_over_tls_for_tls_alone(config, store):
    plain = browser_of(app_with_accounts(config)).get("/sign-in").headers["Set-Cookie"]
    assert "HttpOnly" in plain
    assert "SameSite=Lax" in plain
    assert "Secure" not in plain
    behind = Browser(app_with_accounts(config, proxies=1).test_client())
    answer = behind.get("/sign-in", headers={"X-Forwarded-Proto": "https", "X-Forwarded-For": "192.0.2.9"})
    assert "Secure" in answer.headers["Set-Cookie"]
    assert answer.headers["Strict-Transport-Security"] == "max-age=15552000"


def test_an_address_is_believed_of_so_many_proxies_as_there_are(config, store):
    seen = []
    for proxies in (0, 1):
        app = app_with_accounts(config, proxies=proxies)
        browser = browser_of(app)
        browser.post("/sign-in", {"name": "x", "password": "y" * 15}, headers={"X-Forwarded-For": "203.0.113.5"})
        seen.append(FailedSignIn.select().order_by(FailedSignIn.id.desc()).first().address)
    assert seen == ["127.0.0.1", "203.0.113.5"]


def test_at_one_machine_nobody_signs_in_and_a_proxy_brings_nobody(config, store):
    client = create_app(config, config.database_url).test_client()
    database.connect(reuse_if_open=True)
    assert client.get("/recipes/").status_code == 200
    assert client.get("/sign-in").location == "/"
    passed_on = client.get("/recipes/", headers={"X-Forwarded-For": "203.0.113.5", **JSON})
    assert (passed_on.status_code, passed_on.json["error"]["code"]) == (401, "signed_out")
    token = new_token(new_person("One", ["engineer"], PASSWORD), "x")
    # A token does not stand for the token of a page where nobody signs in.
    assert client.post("/jobs", headers={"Authorization": f"Bearer {token}", **JSON}).status_code == 400


def test_other_names_than_ours_are_not_answered_to(app):
    assert app.test_client().get("/sign-in", base_url="http://elsewhere.example").status_code == 400


def test_every_address_asks_for_the_right_that_its_role_needs(app):
    """All addresses by all roles: refused exactly where the role has no right to it."""
    people = {role: browser_of(app, role, (role,)) for role in RIGHTS_OF}
    tokens = {role: each.token("/recipes/") for role, each in people.items()}
    asked = 0
    adapter = app.url_map.bind(HOST)
    for rule in app.url_map.iter_rules():
        if rule.endpoint in OPEN or rule.endpoint.startswith("clients.") or rule.endpoint == "doors.leave":
            continue
        kinds = {name: type(kind).__name__ for name, kind in rule._converters.items()}
        values = {name: 987654321 if kind == "IntegerConverter" else "x" for name, kind in kinds.items()}
        path = adapter.build(rule.endpoint, values)
        for method in sorted(rule.methods & {"GET", "POST", "PATCH", "DELETE"}):
            needed = right_for(rule.endpoint, method)
            for role, browser in people.items():
                headers = {"X-CSRFToken": tokens[role], **JSON}
                answer = browser.client.open(path, method=method, headers=headers, base_url=f"http://{HOST}")
                refused = answer.status_code == 403 and answer.json["error"]["code"] == "not_allowed"
                may = needed in RIGHTS_OF[role][1]
                assert refused != may, (rule.endpoint, method, role, answer.status_code)
                assert answer.status_code != 401
                asked += 1
    assert asked > 400


def test_every_right_that_is_named_is_of_an_address_that_exists(app):
    assert set(RIGHT_OF) <= set(app.view_functions)
    assert set(OPEN) <= set(app.view_functions)


def test_somebody_who_may_be_two_may_do_what_both_may(app):
    both = browser_of(app, "Both", ("engineer", "operator"))
    assert both.get("/people").status_code == 200
    assert both.post("/jobs", {"title": "x"}, page="/recipes/").status_code == 200
    assert both.post("/trash/empty", page="/recipes/").status_code == 200


def test_roles_and_accounts_that_are_taken_away_hold_at_once(app):
    operator = browser_of(app, "Boss", ("operator",))
    engineer = browser_of(app, "One")
    person = Person.get(Person.name == "One")
    assert engineer.get("/journal").status_code == 200
    operator.post(f"/people/{person.id}", {"role": "listener"}, page="/people")
    assert engineer.post("/jobs", page="/recipes/").json["error"]["code"] == "not_allowed"
    operator.post(f"/people/{person.id}/end", page="/people")
    assert engineer.get("/journal", headers=JSON).status_code == 401
    assert browser_of(app).sign_in("One").status_code == 401
    # Somebody else may have the name from then on.
    new_person("one", ["listener"], PASSWORD)


def test_the_last_operator_stays(app):
    operator = browser_of(app, "Boss", ("operator",))
    boss = Person.get()
    answer = operator.post(f"/people/{boss.id}/end", page="/people")
    assert (answer.status_code, "last operator" in answer.text) == (422, True)
    with pytest.raises(SpecError, match="last operator"):
        change_roles(boss, ["engineer"])
    new_person("Second", ["operator"], None)
    end_account(boss)


def test_an_invitation_lets_choose_a_password_once(app):
    operator = browser_of(app, "Boss", ("operator",))
    page = operator.post("/people", {"name": "New", "role": ["listener"]}, page="/people").text
    address = page.split(f"http://{HOST}")[1].split('"')[0]
    fresh = browser_of(app)
    assert "fifteen" in fresh.get(address).text
    short = fresh.post(address, {"password": "short"}, page=address)
    assert (short.status_code, "at least 15 signs" in short.text) == (422, True)
    assert fresh.post(address, {"password": PASSWORD}, page=address).location == "/"
    assert fresh.get("/recipes/").status_code == 200
    assert browser_of(app).get(address).status_code == 404
    # One that was made later ends the one before.
    person = Person.get(Person.name == "New")
    first, second = new_invitation(person), new_invitation(person)
    assert browser_of(app).get(f"/invited/{first}").status_code == 404
    assert browser_of(app).get(f"/invited/{second}").status_code == 200


def test_a_new_password_signs_every_other_browser_out(app):
    here, there = browser_of(app, "One"), browser_of(app)
    there.sign_in("One")
    wrong = here.post(
        "/account/password", {"old": "what was it again", "password": "b" * 14 + "cdefg"}, page="/account"
    )
    assert (wrong.status_code, "not your password now" in wrong.text) == (422, True)
    done = here.post("/account/password", {"old": PASSWORD, "password": "other words than before"}, page="/account")
    assert done.status_code == 302
    assert here.get("/recipes/").status_code == 200
    assert there.get("/recipes/", headers=PAGE).status_code == 302
    assert browser_of(app).sign_in("One").status_code == 401
    assert browser_of(app).sign_in("One", "other words than before").status_code == 302


@pytest.mark.parametrize("password", ["too short", "aaaaaaaaaaaaaaaaaaaa", "one one one one one", "x" * 1001])
def test_passwords_that_are_guessed_at_once_are_refused(store, password):
    with pytest.raises(SpecError, match="password"):
        new_person("One", ["engineer"], password)


@pytest.mark.parametrize("name", ["", " ", "x" * 61, "a\nb\x07"])
def test_names_that_cannot_be_shown_are_refused(store, name):
    with pytest.raises(SpecError, match="name"):
        new_person(name, ["engineer"], None)


def test_two_of_one_name_are_told_apart(store):
    new_person("Åsa", ["engineer"], None)
    with pytest.raises(SpecError, match="already"):
        new_person("ÅSA", ["engineer"], None)
    with pytest.raises(SpecError, match="role"):
        new_person("Other", ["emperor"], None)


def test_a_program_with_a_token_does_what_its_owner_may(app):
    engineer = browser_of(app, "One")
    page = engineer.post("/account/tokens", {"name": "the night"}, page="/account").text
    token = page.split('value="nl_')[1].split('"')[0]
    program, headers = app.test_client(), {"Authorization": f"Bearer nl_{token}", **JSON}
    made = program.post("/jobs", data={"title": "By night"}, headers=headers, base_url=f"http://{HOST}")
    assert made.status_code == 200
    assert program.get("/people", headers=headers, base_url=f"http://{HOST}").status_code == 403
    person = Person.get()
    engineer.post(f"/account/tokens/{Token.get().id}/withdraw", page="/account")
    assert program.get("/journal", headers=headers, base_url=f"http://{HOST}").status_code == 401
    wrong = {"Authorization": "Bearer nl_guessed", **JSON}
    assert program.get("/journal", headers=wrong, base_url=f"http://{HOST}").status_code == 401
    assert person.name == "One"


def test_a_token_of_somebody_else_is_not_withdrawn(app):
    one = browser_of(app, "One")
    other = new_person("Other", ["engineer"], PASSWORD)
    new_token(other, "mine")
    assert one.post(f"/account/tokens/{Token.get().id}/withdraw", page="/account").status_code == 404
    browser_of(app).sign_in("Other")
    theirs = SignIn.get(SignIn.person == other)
    assert one.post(f"/account/browsers/{theirs.id}/end", page="/account").status_code == 404
    assert Token.select().count() == 1


def test_a_browser_brings_a_pages_token_whoever_it_is(app):
    browser = browser_of(app, "One")
    bare = browser.client.post("/jobs", data={"title": "x"}, headers=JSON, base_url=f"http://{HOST}")
    assert (bare.status_code, bare.json["error"]["code"]) == (400, "stale_page")
    bare = browser.client.post("/sign-in", data={"name": "One"}, headers=JSON, base_url=f"http://{HOST}")
    assert bare.status_code == 400


def test_who_was_let_in_stays_in_while_the_database_is_away(app, monkeypatch):
    from peewee import OperationalError

    browser = browser_of(app, "One")
    assert browser.get("/changes", headers=JSON).status_code == 200

    def away(*_):
        raise OperationalError("gone")

    monkeypatch.setattr("nicelevel.web.gate.signed_in", away)
    monkeypatch.setattr("nicelevel.web.gate.REMEMBERED_S", 0.0)
    assert browser.get("/changes", headers=JSON).status_code == 200
    monkeypatch.setattr("nicelevel.web.gate.OUTAGE_S", 0.0)
    assert browser.get("/changes", headers=JSON).status_code == 503


def test_a_password_is_changed_by_hand_too(store):
    person = new_person("One", ["engineer"], None)
    with pytest.raises(desk_doors.SignInError):
        desk_doors.sign_in("One", PASSWORD, "", "")
    change_password(person, PASSWORD)
    begun = time.monotonic()
    assert desk_doors.sign_in("One", PASSWORD, "", "")
    assert time.monotonic() > begun
