"""Bringing others to one approved source, by a chosen measure."""

import pytest

from nicelevel.core.errors import SpecError
from nicelevel.core.specs.judge import MEASURES
from nicelevel.core.specs.match import match_spec
from tests import signals

from .measuring import meter_signal, planned


@pytest.mark.parametrize("measure", [each for each in MEASURES if each != "dialogue"])  # which is listened for first
def test_another_source_comes_to_the_level_of_the_reference(measure):
    reference, other = meter_signal(signals.programme(5, seed=1)), meter_signal(0.2 * signals.programme(5, seed=2))
    found = planned(other, match_spec(reference, "Mix", measure, "like-mix"))
    assert MEASURES[measure](found.predicted) == pytest.approx(MEASURES[measure](reference), abs=0.31)


def test_a_reference_over_the_usual_ceiling_brings_its_own():
    loud = meter_signal(signals.both(signals.sine(1000, -0.2, 4)))
    assert match_spec(loud, "Loud", "integrated", "x").limits.max_true_peak_dbtp == -0.2
    quiet = meter_signal(signals.both(signals.sine(1000, -20, 4)))
    assert match_spec(quiet, "Quiet", "integrated", "x").limits.max_true_peak_dbtp == -1.0


def test_silence_is_no_reference():
    with pytest.raises(SpecError, match="no level"):
        match_spec(meter_signal(signals.silence(2)), "Nothing", "integrated", "x")
    with pytest.raises(SpecError, match="no such measure"):
        match_spec(meter_signal(signals.silence(2)), "Nothing", "taste", "x")
