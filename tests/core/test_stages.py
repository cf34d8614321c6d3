"""Stages by themselves: what no step asks for yet, and what all steps lean on."""

import numpy as np
import pytest

from nicelevel.core.channels import layout_from_count
from nicelevel.core.signals import Kept
from nicelevel.core.stages import Edit, Mix, Patch, Stretch
from nicelevel.core.values import Shape

from .preparing import whole

RATE_HZ, FRAMES = 48_000, 20_000


def _kept(samples):
    shape = Shape(RATE_HZ, layout_from_count(samples.shape[1]), len(samples))
    return Kept(shape, np.ascontiguousarray(samples, np.float64))


@pytest.fixture
def noise():
    return _kept(np.random.default_rng(4).standard_normal((FRAMES, 2)))


def _crossfaded(shape, pieces, over):
    """Pieces of a signal joined over some frames, as pauses are taken out."""
    stretches, at = [], 0
    for number, (first, last) in enumerate(pieces):
        if number:
            stretches.append(Stretch(pieces[number - 1][1], over, at, "falling"))
            stretches.append(Stretch(first, over, at, "rising"))
            stretches.append(Stretch(first + over, last - first - over, at + over))
        else:
            stretches.append(Stretch(first, last - first, at))
        at += last - first
    return Edit(shape, tuple(sorted(stretches, key=lambda each: each.first)), at)


PIECES = ((100, 3_000), (3_500, 3_900), (9_000, 12_345), (12_400, 19_000))


@pytest.mark.parametrize("frames", [1, 64, 997, 1 << 16])
def test_joined_pieces_are_the_same_in_any_blocks_and_windows(noise, frames):
    edit = _crossfaded(noise.shape, PIECES, 48)
    joined = edit.on(noise)
    everything = whole(joined, frames)
    assert len(everything) == edit.after.frames == sum(last - first for first, last in PIECES)
    for first, last in ((0, 50), (2_850, 3_350), (0, len(everything)), (6_000, 6_700)):
        assert np.array_equal(joined.window(first, last), everything[first:last])


def test_a_crossfade_adds_up_and_what_is_beside_it_stays_what_it_is(noise):
    """Of a constant nothing is seen of the join; everywhere else every sample is its own."""
    constant = _kept(np.full((FRAMES, 1), 0.25))
    assert whole(_crossfaded(constant.shape, PIECES, 48).on(constant)) == pytest.approx(0.25, abs=1e-15)
    joined = whole(_crossfaded(noise.shape, PIECES, 48).on(noise))
    assert np.array_equal(joined[:2_900], noise.codes[100:3_000])
    assert np.array_equal(joined[2_900 + 48 : 3_300], noise.codes[3_548:3_900])


def test_times_follow_a_join(noise):
    timeline = _crossfaded(noise.shape, PIECES, 48).timeline
    assert timeline.to_output(3_200 / RATE_HZ) is None
    assert timeline.to_output(3_600 / RATE_HZ) * RATE_HZ == pytest.approx(3_000)


def test_neighbouring_matrices_multiply_and_a_choice_of_channels_computes_no_other(noise):
    shape, counted = noise.shape, []
    sums = Mix(shape, ((1.0, 1.0), (1.0, -1.0)), shape.layout)
    swapped = Mix(shape, ((0.0, 1.0), (1.0, 0.0)), shape.layout)
    assert np.array_equal(whole(sums.on(swapped.on(noise)))[:, 1], noise.codes[:, 1] - noise.codes[:, 0])
    half = Mix(shape, ((0.5, 0.0), (0.0, 0.5)), shape.layout)
    assert whole(half.on(sums.on(noise))) == pytest.approx(0.5 * whole(sums.on(noise)), abs=1e-15)

    class Watched(Kept):
        def only(self, channels):
            counted.append(tuple(channels))
            return super().only(channels)

    watched = Watched(shape, noise.codes)
    first = Mix(shape, ((0.0, 1.0),), layout_from_count(1)).on(Patch(shape, (0.1, 0.2)).on(watched))
    assert np.array_equal(whole(first)[:, 0], noise.codes[:, 1] + 0.2)
    assert counted == [(1,)]


def test_a_patch_moves_each_channel_by_its_own(noise):
    moved = np.array([0.5, -0.25])
    patched = Patch(noise.shape, tuple(moved)).on(noise)
    assert np.array_equal(whole(patched), noise.codes + moved)
    assert np.array_equal(patched.window(7, 99), noise.codes[7:99] + moved)
