"""Kernels: compiled once, then linked without numba; alike whichever way they come."""

import subprocess
import sys

import numpy as np
import pytest

from nicelevel.core import kernels
from nicelevel.core.kernels import aligned_zeros, kernel, vectorised
from tests import signals

from .measuring import meter_signal


@kernel
def part(value: float) -> float:
    """What the next one calls unless something else is put in its place."""
    return value


@kernel
def _twice(value: float) -> float:
    return 2.0 * value


@kernel
def _sum_of_parts(values, weights, scale: float) -> float:
    total = 0.0
    for row in range(len(values)):
        for column in range(values.shape[1]):
            total += part(values[row, column]) * weights[column] * scale
    return total


@vectorised
def _fill(values, first: int) -> None:
    for at in range(len(values)):
        values[at] = at + first


def test_a_kernel_computes_what_its_function_says():
    values = np.random.default_rng(1).standard_normal((7, 3))
    assert _sum_of_parts.using(part=_twice)(values, np.array([1.0, 2.0, 3.0]), 0.5) == pytest.approx(
        float((values * [1.0, 2.0, 3.0]).sum())
    )


def test_a_part_is_exchanged_without_a_trace_in_the_other():
    values, weights = np.ones((2, 2)), np.ones(2)
    assert _sum_of_parts(values, weights, 1.0) == 4.0
    assert _sum_of_parts.using(part=_twice)(values, weights, 1.0) == 8.0
    assert _sum_of_parts(values, weights, 1.0) == 4.0


def test_the_same_parts_give_the_same_kernel():
    """Each is linked once: measuring ten thousand files takes no more memory than one."""
    assert _sum_of_parts.using(part=_twice) is _sum_of_parts.using(part=_twice)
    assert _sum_of_parts.using(part=part) is not _sum_of_parts.using(part=_twice)


def test_measuring_again_links_nothing_more():
    signal = signals.noise(0.5)
    meter_signal(signal)
    linked = len(kernels._engines)
    meter_signal(signal)
    assert len(kernels._engines) == linked


def test_strided_and_unaligned_arrays_are_read_where_they_lie():
    memory = np.zeros(1 + 8 * 12, np.uint8)
    values = np.ndarray((6, 2), "<f8", memory, 1, (16, 8))
    values[:] = np.arange(12).reshape(6, 2)
    assert _sum_of_parts.using(part=_twice)(values[::2], np.ones(2), 1.0) == 2.0 * (0 + 1 + 4 + 5 + 8 + 9)


def test_every_type_gets_code_of_its_own():
    for dtype in ("i2", "i4", "f4", "f8"):
        values = np.zeros(5, dtype)
        _fill(values, 3)
        assert values.tolist() == [3, 4, 5, 6, 7]


def test_measuring_does_not_load_numba_once_it_is_compiled(tmp_path):
    path = signals.write(tmp_path / "short.wav", signals.noise(0.5))
    program = (
        "import sys; from nicelevel.core.measure import measure;"
        f"measure({str(path)!r}); sys.exit('numba' in sys.modules)"
    )
    subprocess.run([sys.executable, "-c", program], check=False)
    assert subprocess.run([sys.executable, "-c", program], check=False).returncode == 0


@pytest.mark.parametrize("shape", [(1,), (3, 5), (48, 24)])
def test_scratch_begins_on_a_cache_line(shape):
    assert aligned_zeros(shape, np.float64).ctypes.data % 64 == 0
