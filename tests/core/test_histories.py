"""A plan and a file depend on source and spec alone: not on what was planned before, by which thread or worker."""

import hashlib
import itertools
import random
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing import get_context

import pytest

from nicelevel.core.plan import plan
from nicelevel.core.prepare import Measured, prepare
from nicelevel.core.process import process
from nicelevel.core.specs import parse_spec
from tests import signals

TARGETS_LUFS = (-20.0, -17.3, -16.0, -15.9, -14.6, -14.0, -13.2, -12.5, -11.0, -10.1)


def _spec(target_lufs, ceiling_dbtp=-1.0):
    return parse_spec(
        f'[spec]\nname = "Limited"\n[loudness]\ntarget = {target_lufs}\ntolerance = 0.5\n'
        f'[limits]\nmax_true_peak_dbtp = {ceiling_dbtp}\n[method]\nallow = "limiter"\n'
        '[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\ndither = "tpdf"\n',
        "limited",
    )


def _gains_db(prepared, targets_lufs):
    """The gain of each target, planned in this order."""
    return {
        target: plan(prepared.reading.source, lambda _: prepared, _spec(target)).gain_db for target in targets_lufs
    }


@pytest.fixture(scope="module", params=[3, 7, 11])
def prepared(request, tmp_path_factory):
    folder = tmp_path_factory.mktemp("histories")
    path = signals.write(folder / "programme.wav", 0.5 * signals.programme(25, seed=request.param))
    return prepare(path, hops_folder=folder)


def _with_no_history(prepared):
    return Measured(prepared.reading, prepared.chain, prepared.hops)


def test_a_plan_is_the_same_after_every_other_plan(prepared):
    alone = {target: _gains_db(_with_no_history(prepared), [target])[target] for target in TARGETS_LUFS}
    assert len(set(alone.values())) >= len(TARGETS_LUFS) - 2  # the highest may be out of reach
    for first, second in itertools.permutations(TARGETS_LUFS, 2):
        assert _gains_db(prepared, [first, second])[second] == alone[second]
    for seed in range(4):
        shuffled = random.Random(seed).sample(TARGETS_LUFS, len(TARGETS_LUFS))
        assert _gains_db(prepared, shuffled) == alone


def test_threads_that_plan_the_same_source_at_once_find_the_same(prepared):
    alone = _gains_db(_with_no_history(prepared), TARGETS_LUFS)
    shared = _with_no_history(prepared)
    with ThreadPoolExecutor(8) as threads:
        orders = [random.Random(seed).sample(TARGETS_LUFS, len(TARGETS_LUFS)) for seed in range(16)]
        for found in threads.map(lambda order: _gains_db(shared, order), orders):
            assert found == alone


def _written(path, folder, target_lufs):
    """The digest of what one call writes. At module level, for processes of their own ask for it too."""
    (done,) = process(path, _spec(target_lufs), folder, replace=True)
    return hashlib.sha256(done.path.read_bytes()).hexdigest()


def test_a_file_has_the_same_bytes_after_others_in_threads_and_in_processes(tmp_path):
    path = signals.write(tmp_path / "programme.wav", 0.5 * signals.programme(12, seed=5))
    targets = (-16.0, -14.0, -12.0)
    alone = [_written(path, tmp_path / "alone", target) for target in targets]
    backwards = [_written(path, tmp_path / "backwards", target) for target in reversed(targets)]
    assert backwards[::-1] == alone
    asked = [(path, tmp_path / f"at-once-{number}", target) for number, target in enumerate(targets * 2)]
    with ThreadPoolExecutor(4) as threads:
        assert list(threads.map(_written, *zip(*asked, strict=True))) == alone * 2
    with ProcessPoolExecutor(2, get_context("spawn")) as processes:
        assert list(processes.map(_written, *zip(*asked, strict=True))) == alone * 2
