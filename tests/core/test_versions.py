"""Versions of a title by name and date. Common practice: no standard says how versions are named."""

from datetime import datetime, timedelta

import pytest

from nicelevel.core.versions import Dated, read_name, versions_of

NOON = datetime(2026, 11, 25, 12)


def dated(*names, alike=None):
    """Sources named so, each changed an hour after the one before."""
    return [Dated(name, name, NOON + timedelta(hours=hour), alike) for hour, name in enumerate(names)]


@pytest.mark.parametrize(
    ("name", "title", "number"),
    [
        ("Night ferry v2", "night ferry", 2),
        ("night_ferry_V012", "night ferry", 12),
        ("Night ferry (ver. 3)", "night ferry", 3),
        ("Night ferry - version 4 - 48k", "night ferry 48k", 4),
        ("Night ferry mix3", "night ferry", 3),
        ("Night ferry", "night ferry", 1),
        ("Night ferry final", "night ferry", None),
        ("Rev5 Night ferry", "night ferry", 5),
        ("Oliver 2", "oliver 2", 1),
        ("remix 2", "remix 2", 1),
        ("v2go", "v2go", 1),
    ],
)
def test_a_name_says_its_title_and_number(name, title, number):
    found = read_name(name)
    assert (found.title, found.number) == (title, number)


def test_dates_in_names():
    assert read_name("ferry_20261103").day == read_name("ferry 2026-11-03").day
    assert read_name("ferry_20261103").title == "ferry"
    assert read_name("ferry 20269999").day is None
    assert read_name("ferry 20269999").title == "ferry 20269999"


def test_the_highest_number_is_the_newest_whatever_the_files_say():
    assert versions_of(dated("ferry v10", "ferry v9", "ferry")) == (("ferry v10", "ferry v9", "ferry"),)


def test_without_numbers_in_all_names_the_date_decides():
    assert versions_of(dated("ferry 2026-11-03", "ferry 2026-10-30")) == (("ferry 2026-11-03", "ferry 2026-10-30"),)
    assert versions_of(dated("ferry v3", "ferry final")) == (("ferry final", "ferry v3"),)
    assert versions_of(dated("ferry final", "ferry v3")) == (("ferry v3", "ferry final"),)


def test_what_differs_in_more_is_another_title():
    assert versions_of(dated("ferry v1 drums", "ferry v2 bass", "ferry v1")) == ()
    assert versions_of([*dated("ferry v1", alike="stereo"), *dated("ferry v2", alike="5.1")]) == ()


def test_the_same_name_twice_is_a_correction_and_what_came_later_counts():
    """Whatever the files say of when they were changed."""
    first = Dated(1, "mix", NOON + timedelta(days=3), arrived_at=NOON)
    later = Dated(2, "mix", NOON, arrived_at=NOON + timedelta(hours=1))
    other = Dated(3, "mix drums", NOON, arrived_at=NOON)
    assert versions_of([first, later, other]) == ((2, 1),)
    assert versions_of([first, Dated(2, "mix", NOON, alike="5.1")]) == ()


def test_a_correction_of_a_version_comes_before_it_and_after_newer_ones():
    one = Dated(1, "ferry v1", NOON, arrived_at=NOON)
    two = Dated(2, "ferry v2", NOON, arrived_at=NOON)
    again = Dated(3, "ferry v1", NOON, arrived_at=NOON + timedelta(hours=1))
    assert versions_of([one, two, again]) == ((2, 3, 1),)


def test_a_file_that_was_given_for_another_comes_right_before_it():
    """Whatever it is called: it has the place of what it replaces among the versions."""
    one, two = Dated(1, "ferry v1", NOON), Dated(2, "ferry v2", NOON)
    fixed = Dated(3, "bounce", NOON, replaces=1)
    assert versions_of([one, fixed]) == ((3, 1),)
    assert versions_of([one, two, fixed]) == ((2, 3, 1),)
    again = Dated(4, "bounce 44", NOON, replaces=3)
    assert versions_of([one, two, fixed, again]) == ((2, 4, 3, 1),)
    assert versions_of([Dated(5, "alone", NOON, replaces=99)]) == ()
