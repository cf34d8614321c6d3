"""What stands out of a job: a source with the fault, a near miss without it."""

from dataclasses import replace

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.measure.neighbours import neighbour_notes, outlying
from tests import signals

from .measuring import meter_signal


@pytest.fixture(scope="module")
def usual():
    """Five readings that agree in everything."""
    return [meter_signal(signals.noise(3, -23, seed=seed), encoding="pcm_24") for seed in range(5)]


def _with(reading, **facts):
    return replace(reading, source=replace(reading.source, **facts))


def _codes(readings):
    return [[note.code for note in notes] for notes in neighbour_notes(readings)]


def test_where_all_agree_nothing_is_noted(usual):
    assert _codes(usual) == [[]] * 5


@pytest.mark.parametrize(
    ("facts", "code"),
    [
        ({"sample_rate_hz": 44_100}, "rate_outlier"),
        ({"bits_declared": 16}, "bits_outlier"),
        ({"layout": layout_from_count(1)}, "layout_outlier"),
        ({"frames": 48_000 * 9}, "length_outlier"),
        ({"frames": 48_000}, "length_outlier"),
    ],
)
def test_one_that_differs_is_noted_and_only_that(usual, facts, code):
    assert _codes([*usual, _with(usual[0], **facts)]) == [[]] * 5 + [[code]]


def test_where_half_differ_there_is_no_usual(usual):
    halves = [*usual[:3], *(_with(each, sample_rate_hz=44_100) for each in usual[:3])]
    assert _codes(halves) == [[]] * 6


def test_a_little_longer_is_not_noted(usual):
    assert _codes([*usual, _with(usual[0], frames=int(48_000 * 3 * 1.4))])[-1] == []


def test_three_sources_are_too_few_to_compare(usual):
    assert _codes([*usual[:2], _with(usual[0], sample_rate_hz=44_100)]) == [[]] * 3


def test_a_limiter_left_on_stands_far_under_its_neighbours(usual):
    dense = meter_signal(np.clip(signals.noise(3, -23, seed=9), -0.09, 0.09), encoding="pcm_24")
    limited = replace(dense, true_peak_per_channel_dbtp=tuple(peak - 3 for peak in dense.true_peak_per_channel_dbtp))
    milder = replace(usual[0], true_peak_per_channel_dbtp=tuple(p - 2 for p in usual[0].true_peak_per_channel_dbtp))
    assert _codes([*usual, limited])[-1] == ["limited_outlier"]
    assert _codes([*usual, milder])[-1] == []


def test_outlying_values_are_far_by_the_usual_distance_and_by_the_least():
    assert outlying([1.0, 1.1, 0.9, 1.0, 5.0], 3.0) == [False] * 4 + [True]
    assert outlying([1.0, 1.1, 0.9, 1.0, 3.0], 3.0) == [False] * 5
    assert outlying([0.0, 4.0, 8.0, 12.0, 20.0], 3.0) == [False] * 5
    assert outlying([1.0, None, -np.inf, 1.0, 1.0, 9.0], 3.0)[-1]
