"""Coming in, roles, and a client's link, in the real interface and by keyboard."""

import re

import pytest
from playwright.sync_api import expect

from tests import signals
from tests.conftest import Live
from tests.web.signing_in import PASSWORD

from .conftest import make_job
from .test_accessible import OVERLAPS, _found
from .test_board import cell, drop, measured


@pytest.fixture(scope="module")
def live(tmp_path_factory):
    """Nice Level as a studio has it, with one of each."""
    running = Live(tmp_path_factory.mktemp("doors"), settings={"ACCOUNTS": "yes"})
    for name, roles in (("Listener", ["listener"]), ("Engineer", ["engineer"]), ("Boss", ["operator", "engineer"])):
        told = [word for role in roles for word in ("--role", role)]
        running.command(["user", "add", name, *told, "--password-stdin"], PASSWORD)
    yield running
    running.stop()


def sign_in(page, live, name, at=""):
    """By keyboard alone."""
    page.goto(f"{live.address}{at}")
    expect(page.locator("[name=name]")).to_be_focused()
    page.keyboard.type(name)
    page.keyboard.press("Tab")
    page.keyboard.type(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.locator("details.house summary")).to_have_text(name)


@pytest.fixture
def handed_over(page, live, tmp_path):
    """The handover of a job with one proved file."""
    sign_in(page, live, "Engineer")
    make_job(page, "Ferry")
    drop(page, signals.write(tmp_path / "Night ferry.wav", signals.programme(8, seed=2)))
    measured(page, "Night ferry")
    cell(page, "Night ferry", "European").click()
    page.keyboard.press("r")
    expect(cell(page, "Night ferry", "European")).to_have_attribute("data-state", "proved")
    page.keyboard.press("h")
    expect(page.locator("#tree [data-state=proved]")).to_have_count(1)
    return page


def test_one_comes_in_by_keyboard_where_they_were_going_and_leaves(page, live):
    sign_in(page, live, "Engineer", "recipes/")
    expect(page).to_have_url(re.compile("/recipes/$"))
    page.locator("details.house summary").focus()
    page.keyboard.press("Enter")
    page.locator("details.house").get_by_text("Sign out").press("Enter")
    expect(page).to_have_url(re.compile("/sign-in"))
    page.goto(f"{live.address}recipes/")
    expect(page).to_have_url(re.compile("/sign-in"))


def test_who_signs_out_is_not_told_so_by_a_question_asked_before(page, live):
    """The page asks for changes three times a second, also while the answer to signing out is on its way."""
    sign_in(page, live, "Engineer", "recipes/")
    answers = []
    page.route("**/sign-out", lambda route: answers.append((route, route.fetch(max_redirects=0))))
    page.locator("details.house summary").click()
    page.locator("details.house").get_by_text("Sign out").click(no_wait_after=True)
    page.wait_for_timeout(1500)
    assert answers  # whoever asks now is refused, which the console would say
    route, answer = answers.pop()
    route.fulfill(response=answer)
    expect(page).to_have_url(re.compile("/sign-in"))
    page.go_back()
    expect(page).to_have_url(re.compile("/sign-in"))  # nothing is shown from memory to whoever comes after


def test_a_listener_is_offered_what_they_may_do(handed_over, live, browser):
    job = handed_over.url.rpartition("/handover")[0]
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    sign_in(page, live, "Listener", job.removeprefix(live.address))
    expect(cell(page, "Night ferry", "European")).to_be_visible()
    for words in ("Add files", "Add destination"):
        expect(page.locator(".bar").get_by_text(words)).to_be_hidden()
    expect(page.locator("#actions button")).to_be_hidden()
    cell(page, "Night ferry", "European").click()
    page.keyboard.press("r")
    expect(page.locator(".word")).to_have_text("Only an engineer may change this. Nothing was changed.")
    page.keyboard.press("h")
    expect(page.locator("#tree [data-state=proved]")).to_have_count(1)
    expect(page.locator("a[data-package]")).to_be_hidden()
    expect(page.locator("form.send")).to_be_hidden()
    expect(page.locator("a[data-proof]")).to_be_visible()
    context.close()


def test_a_page_says_that_somebody_was_signed_out_and_goes_on(handed_over, live):
    page = handed_over
    page.context.clear_cookies()
    expect(page.locator(".trouble")).to_contain_text("signed out")
    other = page.context.new_page()
    sign_in(other, live, "Engineer")
    expect(page.locator(".trouble")).to_be_hidden()
    page.wrong.clear()  # the answers meanwhile were errors, which is the point


def test_a_client_hears_and_says_what_to_change(handed_over, live, browser):
    page = handed_over
    page.fill(".link [name=client]", "The ferry")
    page.locator(".link [name=client]").press("Enter")
    expect(page.locator("#links article")).to_contain_text("not opened yet")
    address = page.get_attribute("[data-copy]", "data-copy")
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    client = context.new_page()
    held = []
    client.route("**/1/hear", lambda route: held.append(route))
    client.goto(address)
    expect(client.locator("tr.chosen")).to_contain_text("Night ferry")
    client.keyboard.press(" ")  # before there is anything to play
    while not held:
        client.wait_for_timeout(50)
    held.pop().continue_()
    expect(client.locator("[data-hear-root]")).to_have_attribute("data-state", "playing")
    client.keyboard.press("b")
    expect(client.locator("[data-take][aria-pressed=true]")).to_contain_text("Mix")
    client.keyboard.press(" ")
    client.locator("input[type=range]").fill("3.5")
    client.click("text=where it plays")
    expect(client.locator("[name=from_s]")).to_have_value("0:03.5")
    client.keyboard.type("A little more air, please.")
    client.click("text=Ask for the change")
    expect(client.locator("tr[data-said=change]")).to_be_visible()
    expect(page.locator("#links")).to_contain_text("A little more air, please.")
    assert _found(client) == []
    client.evaluate("document.documentElement.dataset.bsTheme = 'dark'")
    assert _found(client) == []
    client.get_by_text("Accepted", exact=True).click()
    expect(page.locator("#links .good")).to_contain_text("accepted")
    page.click("#links [data-withdraw]")
    expect(page.locator("#links article")).to_contain_text("withdrawn")
    client.reload()
    expect(client.locator("h1")).to_have_text("Nothing is behind this link")
    context.close()


def test_somebody_new_chooses_a_password(page, live, browser):
    sign_in(page, live, "Boss", "people")
    page.locator(".sentence [name=name]").fill("New one")
    page.locator(".sentence button").press("Enter")
    address = page.locator(".told input").input_value()
    context = browser.new_context()
    fresh = context.new_page()
    fresh.goto(address)
    fresh.keyboard.type("words that are my own")
    fresh.keyboard.press("Enter")
    expect(fresh.locator("details.house summary")).to_have_text("New one")
    context.close()


@pytest.mark.parametrize(("width", "height"), [(853, 533), (1024, 640), (2560, 1440)])
def test_pages_of_the_house_fit_at_every_size(page, live, width, height):
    sign_in(page, live, "Boss")
    page.set_viewport_size({"width": width, "height": height})
    for path in ("people", "account", "settings", "journal", "room", "api"):
        page.goto(f"{live.address}{path}")
        assert page.evaluate(OVERLAPS) == [], path


def test_no_page_of_the_house_has_a_serious_fault_in_either_light(page, live):
    page.goto(f"{live.address}sign-in")
    assert _found(page) == []
    sign_in(page, live, "Boss")
    for theme in ("light", "dark"):
        page.evaluate("theme => localStorage.setItem('theme', theme)", theme)
        for path in ("people", "account", "settings", "journal", "room", "api"):
            page.goto(f"{live.address}{path}")
            page.wait_for_selector("h1")
            assert _found(page) == [], f"{path}, {theme}"
