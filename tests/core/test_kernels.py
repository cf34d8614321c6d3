"""Kernels: compiled once, then linked without numba; alike whichever way they come."""

import importlib.util
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
    linked = len(kernels._libraries)
    meter_signal(signal)
    assert len(kernels._libraries) == linked


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


OWN_MODULE = """
from nicelevel.core.kernels import kernel

@kernel
def halved(value: float) -> float:
    return value / 2.0
"""


@pytest.fixture
def module(tmp_path, monkeypatch):
    """A module of its own, whose code was never compiled, and a folder of caches."""
    path = tmp_path / "package" / "module.py"
    path.parent.mkdir()
    path.write_text(OWN_MODULE)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))

    def load():
        spec = importlib.util.spec_from_file_location("module", path)
        loaded = importlib.util.module_from_spec(spec)
        exec(compile(OWN_MODULE, str(path), "exec"), loaded.__dict__)
        return loaded

    return path, load


def test_code_is_kept_beside_its_module(module, tmp_path):
    path, load = module
    assert load().halved(3.0) == 1.5
    assert len(list((path.parent / "__pycache__").glob("halved.*.kernel"))) == 1
    assert not (tmp_path / "cache").exists()


def test_where_a_package_may_not_be_written_to_code_is_kept_for_its_user(module, monkeypatch):
    """A file in the place of the folder: nobody can write there, root neither."""
    path, load = module
    (path.parent / "__pycache__").write_text("")
    assert load().halved(3.0) == 1.5
    assert len(list(kernels.own_cache().glob("halved.*.kernel"))) == 1
    monkeypatch.setattr("nicelevel.core.compiling.compiled", None)  # it is not compiled again
    assert load().halved(5.0) == 2.5


def test_where_neither_can_be_written_it_is_compiled_and_used(module, tmp_path):
    path, load = module
    for name in (path.parent / "__pycache__", tmp_path / "cache"):
        name.write_text("")
    assert load().halved(3.0) == 1.5


def test_a_user_without_a_home_is_served_too(module, monkeypatch):
    _, load = module
    monkeypatch.delenv("XDG_CACHE_HOME")
    monkeypatch.setattr("os.path.expanduser", lambda given: given)  # as it is where no home is known
    assert kernels.own_cache() is None
    assert load().halved(3.0) == 1.5


def test_another_numba_is_used_by_its_public_face(module, monkeypatch, caplog):
    """What an inner part that is gone looks like."""
    _, load = module
    monkeypatch.delattr("llvmlite.binding.JITLibraryBuilder")
    loaded = load()
    assert [loaded.halved(value) for value in (3.0, 5.0)] == [1.5, 2.5]
    assert "halved is compiled in the plain way" in caplog.text
