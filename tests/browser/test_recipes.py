"""Recipes of one's own in a real browser: kept by a key, shared, brought up, renamed, deleted and brought back."""

from playwright.sync_api import expect

from tests import signals

from .test_board import drop, measured, row
from .test_prepare import _add, _order, _steps, noted, screen  # noqa: F401


def _answer(page, text):
    page.fill("dialog.ask input", text)
    page.keyboard.press("Enter")


def test_steps_are_kept_as_a_recipe_and_given_from_the_board(screen, tmp_path):  # noqa: F811
    screen.on("filechooser", lambda _: None)  # from then on they are caught, however soon one comes
    _add(screen, "tick", "gate")
    screen.keyboard.press("k")
    _answer(screen, "Bulletins")
    expect(screen.locator("#called")).to_have_text("Bulletins")
    _add(screen, "silence")
    expect(screen.locator("#called")).to_have_text("Bulletins, changed here")
    screen.keyboard.press("k")
    expect(screen.locator("dialog.ask input")).to_have_value("Bulletins")
    screen.keyboard.press("Enter")
    expect(screen.locator("[role=status]")).to_have_text("Kept as version 2 of Bulletins.")
    screen.keyboard.press("Escape")
    screen.wait_for_url("**/jobs/*")
    drop(screen, signals.write(tmp_path / "Other.wav", signals.programme(3)))
    measured(screen, "Other")
    row(screen, "Other").locator("td.cell").first.click()
    screen.keyboard.press("m")
    screen.locator(".picked-bar summary").click()
    screen.locator(".picked-bar").get_by_role("button", name="Bulletins").click()
    expect(row(screen, "Other").locator(".prepared")).to_have_text("Bulletins")
    screen.click("nav >> text=Recipes")
    card = screen.locator("article#bulletins")
    expect(card).to_contain_text("version 2")
    expect(card).to_contain_text("2 sources prepared by it")
    card.locator("summary").click()
    card.get_by_role("button", name="Version 1 again").click()
    expect(screen.locator("[role=status]")).to_have_text("Version 1 is the newest again.")
    expect(card).to_contain_text("version 3")
    expect(card).to_contain_text("2 by an older version")
    card.get_by_role("button", name="Give version 3").click()
    expect(screen.locator("[role=status]")).to_have_text("Brought up to version 3.")
    expect(card).not_to_contain_text("older version")
    card.locator("summary").click()
    card.get_by_role("button", name="Rename it").click()
    _answer(screen, "News")
    expect(screen.locator("[role=status]")).to_have_text("Renamed.")
    expect(card.locator("h2")).to_contain_text("News")
    card.locator("summary").click()
    with screen.expect_download() as coming:
        card.get_by_text("Export as TOML").click()
    coming.value.save_as(tmp_path / "News.toml")
    card.get_by_role("button", name="Delete it").click()
    expect(screen.locator("[role=status]")).to_have_text("Deleted; Z brings it back.")
    expect(card).to_have_count(0)
    screen.keyboard.press("z")
    expect(card).to_have_count(1)
    text = (tmp_path / "News.toml").read_text().replace('"News"', '"Late news"')
    (tmp_path / "Late.toml").write_text(text)
    with screen.expect_file_chooser() as chooser:
        screen.keyboard.press("i")
    chooser.value.set_files(tmp_path / "Late.toml")
    expect(screen.locator("article#late-news li")).to_have_count(2)


def test_the_same_steps_for_more_sources(noted, tmp_path):  # noqa: F811
    drop(noted, signals.write(tmp_path / "Other.wav", signals.programme(3)))
    measured(noted, "Other")
    row(noted, "Bulletin").locator("td.cell").first.click()
    noted.keyboard.press("p")
    noted.wait_for_url("**/prepare")
    _add(noted, "tick")
    noted.locator(".others summary").click()
    noted.locator(".others").get_by_label("Other").check()
    noted.get_by_role("button", name="Give them these steps").click()
    expect(noted.locator(".bar")).to_contain_text("and 1 more")
    noted.keyboard.press("Escape")
    noted.wait_for_url("**/jobs/*")
    measured(noted, "Other")
    noted.keyboard.press("Control+a")
    noted.keyboard.press("p")
    noted.wait_for_url("**/prepare?with=*")
    expect(noted.locator(".bar")).to_contain_text("and 1 more")
    expect(_steps(noted)).to_have_count(1)
    noted.wait_for_timeout(500)
    _add(noted, "dc")
    noted.keyboard.press("Escape")
    noted.wait_for_url("**/jobs/*")
    for title in ("Bulletin", "Other"):
        expect(row(noted, title).locator(".prepared")).to_have_attribute("title", "Mend a tick in the first 10 ms. "
            "Take away a constant offset.")  # fmt: skip


def test_what_comes_in_is_prepared_by_rule(board, tmp_path):
    board.locator(".bar details.adder.left summary").first.click()
    board.click("text=Prepare what comes in…")
    expect(board.locator("li.none")).to_be_visible()
    board.select_option("[name=channels]", label="in one channel")
    board.select_option("[name=recipe]", label="Clean head")
    board.fill("[name=name_has]", "news")
    board.keyboard.press("Enter")
    expect(board.locator("ol.lines li")).to_contain_text("A file in one channel whose name has “news” is mended")
    board.keyboard.press("Escape")
    board.wait_for_url("**/jobs/*")
    mono = signals.programme(3)[:, :1]
    drop(board, signals.write(tmp_path / "Evening news.wav", mono), signals.write(tmp_path / "Song.wav", 0.5 * mono))
    for title in ("Evening news", "Song"):
        measured(board, title)
    expect(row(board, "Evening news").locator(".prepared")).to_have_text("Clean head")
    expect(row(board, "Song").locator(".prepared")).to_have_count(0)


def test_what_is_typed_and_pressed_before_a_page_listens_is_not_lost(board):
    """Its script comes late; the rule is added once, and no form is sent as a plain one."""
    held = []
    board.route("**/alpine-csp.js*", lambda route: held.append(route))
    board.locator(".bar details.adder.left summary").first.click()
    board.click("text=Prepare what comes in…", no_wait_after=True)
    board.fill("[name=name_has]", "early")
    board.keyboard.press("Enter")
    while not held:
        board.wait_for_timeout(20)
    for route in held:
        route.continue_()
    expect(board.locator("ol.lines li:not(.none)")).to_have_count(1)
    expect(board.locator("ol.lines li")).to_contain_text("“early”")
    assert "name_has" not in board.url


def test_what_is_typed_after_an_early_key_into_a_field_is_no_command(board, tmp_path):
    """F leads into the filter; the letters after it would have linked, mended and opened something."""
    for name in ("Long tick", "Other"):
        drop(board, signals.write(tmp_path / f"{name}.wav", signals.programme(3)))
        measured(board, name)
    held, changed = [], []
    board.route("**/alpine-csp.js*", lambda route: held.append(route))
    board.on("request", lambda request: changed.append(request.url) if request.method == "POST" else None)
    board.reload(wait_until="commit")
    board.wait_for_selector("td.cell")
    board.keyboard.press("f")
    board.keyboard.type("long N")
    while not held:
        board.wait_for_timeout(20)
    for route in held:
        route.continue_()
    expect(board.locator("input.filter")).to_have_value("long N")
    board.keyboard.press("Backspace")
    board.keyboard.press("Backspace")
    expect(row(board, "Other")).to_be_hidden()
    expect(row(board, "Long tick")).to_be_visible()
    assert changed == []


def test_notes_are_mended_where_the_reading_shows_them(noted):  # noqa: F811
    noted.keyboard.press("Enter")
    noted.wait_for_url("**/reading")
    noted.locator("[data-mend=tick_at_head]").click()
    expect(noted.locator("[role=status]")).to_have_text("Mended; Z takes it back.")
    expect(noted.locator("aside")).to_contain_text("Mended: Mend a tick in the first 10 ms.")
    noted.keyboard.press("z")
    expect(noted.locator("[role=status]")).to_contain_text("Taken back")
    expect(noted.locator("aside")).not_to_contain_text("Mended:")
    noted.keyboard.press("n")
    expect(noted.locator("aside")).to_contain_text("Shorten pauses")
    noted.keyboard.press("p")
    noted.wait_for_url("**/prepare")
    expect(_steps(noted)).to_have_count(2)
    assert _order(noted) == ["tick", "pauses"]
