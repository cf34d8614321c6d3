"""Programmes of one file against its mix: told by label, held sample for sample."""

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_count, layout_of_name
from nicelevel.core.programmes import Programme, join, programmes_of
from nicelevel.core.programmes.adding_up import addition_in, check_addition, places_off
from nicelevel.report.sum_words import addition_sentence
from tests import signals

RATE_HZ, SECONDS = 48_000, 8


def _programme(label, first, layout):
    count = len(layout.positions)
    return Programme(label, tuple(range(first, first + count)), layout)


SIX, TWO, ONE = layout_of_name("5.1"), layout_of_name("stereo"), layout_from_count(1)


@pytest.mark.parametrize(
    ("labels", "expected"),
    [
        (("Full mix", "Dialogue", "Music and effects"), ["Dialogue", "Music and effects"]),
        (("Main", "DX", "M&E"), ["DX", "M&E"]),
        (("Full mix", "Dialogue", "For two"), None),
        (("A", "Dialogue", "Music"), None),
        (("Full mix", "For two", "Horn"), None),
    ],
)
def test_which_programmes_may_add_up_is_told_by_what_they_are_called(labels, expected):
    programmes = [_programme(labels[0], 1, SIX), _programme(labels[1], 7, ONE), _programme(labels[2], 8, SIX)]
    found = addition_in(programmes)
    assert ([each.label for each in found.parts] if found else None) == expected


def test_what_has_no_place_in_the_mix_is_none_of_it():
    programmes = [
        _programme("Full mix", 1, TWO),
        _programme("Dialogue", 3, ONE),
        _programme("Music and effects", 4, SIX),
    ]
    assert addition_in(programmes) is None


def _file(tmp_path, mix, dialogue, rest):
    paths = [
        signals.write(tmp_path / f"{n}.wav", each, RATE_HZ, "FLOAT") for n, each in enumerate((mix, dialogue, rest))
    ]
    return join(paths, tmp_path / "all.wav", ("Full mix", "Dialogue", "Music and effects")).path


def _said(path):
    addition = addition_in(programmes_of(path).programmes)
    found = check_addition(path, addition)
    return addition_sentence(found, addition.mix.label, [each.label for each in addition.parts]), found


@pytest.fixture
def parts():
    """Dialogue of one channel, the rest in 5.1; their sum."""
    voice, rest = (
        0.3 * signals.programme(SECONDS, channels=1, seed=1),
        0.3 * signals.programme(SECONDS, channels=6, seed=2),
    )
    mix = rest.copy()
    mix[:, 2] += voice[:, 0]
    return mix, voice, rest


def test_dialogue_in_the_centre_and_the_rest_add_up(tmp_path, parts):
    sentence, found = _said(_file(tmp_path, *parts))
    assert found.adds_up
    assert sentence.startswith("Dialogue and Music and effects add up to Full mix")
    assert places_off(found) == []


def test_one_channel_goes_into_two_3_db_down(tmp_path, parts):
    _, voice, rest = parts
    mix = rest[:, :2] + 0.5**0.5 * voice
    assert _said(_file(tmp_path, mix, voice, rest[:, :2]))[1].adds_up


def test_what_does_not_add_up_is_named_with_its_place(tmp_path, parts):
    mix, voice, rest = parts
    late = mix.copy()
    late[3 * RATE_HZ : 4 * RATE_HZ, 0] += signals.noise(1, -25, channels=1, seed=5)[:, 0]
    sentence, found = _said(_file(tmp_path, late, voice, rest))
    assert "do not add up to Full mix" in sentence
    assert sentence.endswith("It is off from 0:03.0 to 0:04.0.")
    assert places_off(found) == [pytest.approx((3.0, 4.0), abs=0.11)]
    without = rest.copy()
    sentence, _ = (
        _said(_file(tmp_path / "b", without, voice, rest)) if (tmp_path / "b").mkdir() is None else ("", None)
    )
    assert "Dialogue is missing in the mix" in sentence
    turned = rest.copy()
    turned[:, 2] -= voice[:, 0]
    (tmp_path / "c").mkdir()
    assert "Dialogue is in the mix with its polarity inverted" in _said(_file(tmp_path / "c", turned, voice, rest))[0]


def test_places_that_are_close_are_one(tmp_path, parts):
    mix, voice, rest = parts
    for second in (2, 2.5, 6):
        first = round(second * RATE_HZ)
        mix[first : first + RATE_HZ // 5] += 0.1 * np.ones(6)
    sentence, found = _said(_file(tmp_path, mix, voice, rest))
    assert len(places_off(found)) == 2
    assert sentence.endswith(", and once more.")
