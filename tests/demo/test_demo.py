"""The demo: the same bytes from the same seed, and the faults that it is meant to show."""

import numpy as np
import pytest
import soundfile

from nicelevel.core.digest import sha256_of
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from nicelevel.core.plan.sum_check import check_sum
from nicelevel.core.prepare import Workshop
from nicelevel.core.programmes import programmes_of
from nicelevel.core.recipes import shipped_recipes
from nicelevel.demo.sources import DEMO_SOURCES, make_source, talk_parts
from tests import reference

_SHORT = {
    "Guide: the stairs": ["one_sided"],
    "Guide: the lamp": ["dead_air_tail"],
    "Tide bulletin": [],
    "Talk at the lamp": [],
}


@pytest.mark.parametrize("title", _SHORT)
def test_a_source_has_its_fault_and_no_other_and_comes_out_the_same_twice(tmp_path, title):
    number = next(number for number, demo in enumerate(DEMO_SOURCES) if demo.title == title)
    (tmp_path / "again").mkdir()
    first, again = make_source(number, tmp_path), make_source(number, tmp_path / "again")
    assert sha256_of(first) == sha256_of(again)
    reading = measure(first)
    assert [note.code for note in reading.notes] == _SHORT[title]
    assert reading.source.sample_rate_hz == DEMO_SOURCES[number].rate_hz


def test_stems_of_the_demo_add_up_where_they_are_meant_to(tmp_path):
    """The horn call does; the theme's mix was pushed into the ceiling, so its stems do not."""
    for mix, stems, adds_up in (
        ("Horn call", ("Horn", "Sea"), True),
        ("Lamp room theme", ("Strings", "Bells", "Low brass"), False),
    ):
        made = [
            make_source(next(n for n, demo in enumerate(DEMO_SOURCES) if demo.title == title), tmp_path)
            for title in (mix, *stems)
        ]
        assert check_sum(made[0], made[1:]).adds_up == adds_up


def test_the_talk_is_far_apart_and_comes_together(tmp_path):
    """Also what lasts but three seconds, before somebody who speaks 12 dB lower."""
    number = next(number for number, demo in enumerate(DEMO_SOURCES) if demo.title == "Talk at the lamp")
    path, rate_hz = make_source(number, tmp_path), DEMO_SOURCES[number].rate_hz
    with Workshop(path, False, recipe=shipped_recipes()[DEMO_SOURCES[number].recipe].steps) as workshop:
        chain = workshop.chain()
    with take_in(path) as audio:
        evened = np.concatenate(list(chain.on(audio).blocks(1 << 16)))
    came = soundfile.read(path, always_2d=True)[0]
    at, levels = 0, []
    for said, pause in talk_parts(rate_hz):
        part = slice(at, at + len(said))
        levels.append([reference.integrated_lufs(each[part], rate_hz) for each in (came, evened)])
        at += len(said) + len(pause)
    before, after = np.array(levels).T
    assert np.ptp(before) > 18.0
    # What medium promises: within 2 LU of the whole.
    assert np.abs(after - reference.integrated_lufs(came, rate_hz)).max() < 2.0


def test_a_file_of_the_demo_holds_programmes_that_it_names(tmp_path):
    (number,) = [at for at, demo in enumerate(DEMO_SOURCES) if demo.programmes]
    found = programmes_of(make_source(number, tmp_path))
    assert found.are_named
    assert tuple((each.label, each.layout.name) for each in found.programmes) == tuple(
        (label, layout.name) for label, layout in DEMO_SOURCES[number].programmes
    )


def test_the_demo_has_what_the_board_should_show():
    assert len(DEMO_SOURCES) >= 8
    assert {demo.kind for demo in DEMO_SOURCES} == {"mix", "stem", "voice"}
    assert {demo.layout.name for demo in DEMO_SOURCES if not demo.programmes} == {"mono", "stereo", "5.1"}
    assert len({demo.file_name for demo in DEMO_SOURCES}) == len(DEMO_SOURCES)
