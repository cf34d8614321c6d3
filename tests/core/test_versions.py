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


def test_equal_names_without_a_word_for_versions_stay_apart():
    assert versions_of([Dated(1, "mix", NOON), Dated(2, "mix", NOON)]) == ()
