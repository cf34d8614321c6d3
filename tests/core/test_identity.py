"""The digest of a plan: the same for what writes the same file, another for anything that would be heard."""

from dataclasses import replace

import pytest

from nicelevel.core.measure import measure
from nicelevel.core.plan.identity import plan_digest
from nicelevel.core.prepare import Workshop
from nicelevel.core.process import plans_of_file
from nicelevel.core.specs import parse_spec
from nicelevel.core.steps.gain import Gain
from nicelevel.core.steps.trim import Trim
from tests import signals

from .measuring import planned
from .preparing import chain_of

SPEC = """
spec.name = "House"
loudness = { target = -20.0, tolerance = 0.5 }
formats = [{ container = "wav", encoding = "pcm_16", dither = "tpdf" }, { container = "wav", encoding = "pcm_24" }]
output = { name = "{title} {bits}" }
"""


@pytest.fixture
def take(tmp_path):
    sound = signals.programme(3, seed=4)
    return signals.write(tmp_path / "take.wav", sound)


@pytest.fixture
def found(take):
    return planned(measure(take), parse_spec(SPEC, "house"))


def test_the_same_plan_has_the_same_digest_whoever_makes_it(take, found):
    with Workshop(take, with_hops=False) as workshop:
        again = plans_of_file(workshop, parse_spec(SPEC, "house"))
    assert plan_digest(again[0], "abc") == plan_digest(found, "abc")
    assert plan_digest(again[1], "abc") != plan_digest(found, "abc")


def test_steps_that_come_to_the_same_gain_are_told_apart(take, found):
    """A file of another recipe is never taken for this one."""
    chains = [chain_of(take), chain_of(take, Gain(db=0.5)), chain_of(take, Trim()), chain_of(take, Trim(keep_s=0.1))]
    assert len({plan_digest(replace(found, chain=chain), "abc") for chain in chains}) == 4


def test_contents_gain_output_and_dither_count_and_the_last_digits_of_a_sum_do_not(found):
    digest = plan_digest(found, "abc")
    others = [
        plan_digest(found, "abd"),
        plan_digest(replace(found, gain_db=found.gain_db + 0.01), "abc"),
        plan_digest(replace(found, dithers=not found.dithers), "abc"),
        plan_digest(replace(found, output=replace(found.output, encoding="pcm_24")), "abc"),
        plan_digest(replace(found, curve_of=()), "abc", "leader"),
        plan_digest(replace(found, curve_of=()), "abc", "another leader"),
    ]
    assert len({digest, *others}) == 1 + len(others)
    assert plan_digest(replace(found, gain_db=found.gain_db + 1e-9), "abc") == digest
    assert plan_digest(replace(found, output=replace(found.output, format_key="another wording")), "abc") == digest
    assert plan_digest(replace(found, gain_db=-0.0), "abc") == plan_digest(replace(found, gain_db=0.0), "abc")


def test_an_output_is_known_by_programme_format_and_channel(take):
    text = SPEC.replace('dither = "tpdf"', 'files = "per_channel"')
    with Workshop(take, with_hops=False) as workshop:
        made = plans_of_file(workshop, parse_spec(text, "house"))
    assert [each.output.key for each in made] == [
        "1 · wav pcm_16 keep keep tpdf · 1",
        "1 · wav pcm_16 keep keep tpdf · 2",
        "1 · wav pcm_24 keep keep tpdf",
    ]
