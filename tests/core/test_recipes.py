"""Recipes as files: what they may say, what ships, what harms in which order."""

import pytest

from nicelevel.core.errors import SpecError
from nicelevel.core.recipes import load_recipe, parse_recipe, shipped_recipes
from nicelevel.core.recipes.harms import harms_of
from nicelevel.core.recipes.library import reasons_of
from nicelevel.core.recipes.write import recipe_to_toml
from nicelevel.core.specs import load_spec, parse_spec
from nicelevel.core.specs.write import spec_to_toml
from nicelevel.core.steps import STEPS, recipe_from_json
from nicelevel.core.steps.table import OF_SPECS

HEAD = '[recipe]\nname = "Own"\n'
SPEC = '[spec]\nname = "Own"\n[[formats]]\ncontainer = "wav"\n'

ALL_STEPS = """
[[steps]]
do = "gain"
db = -3
[[steps]]
do = "cut"
from_s = 1
to_s = 20.5
[[steps]]
do = "trim"
where = "head"
[[steps]]
do = "silence"
tail_s = 1
[[steps]]
do = "pauses"
[[steps]]
do = "tick"
[[steps]]
do = "dc"
[[steps]]
do = "high_pass"
hz = 80
[[steps]]
do = "gate"
below_db = -50
[[steps]]
do = "compress"
above_db = -30
ratio = 2
[[steps]]
do = "even"
[[steps]]
do = "flip"
[[steps]]
do = "delay"
channels = [2]
samples = "auto"
[[steps]]
do = "mix"
[[steps]]
do = "fold"
layout = "stereo"
[[steps]]
do = "keep"
[[steps]]
do = "fade"
in_s = 0.1
shape = "convex"
[[steps]]
do = "length"
seconds = 30
"""


def test_every_step_can_stand_in_a_recipe_but_the_rate_which_is_a_matter_of_formats():
    recipe = parse_recipe(HEAD + ALL_STEPS, "own")
    assert {step.do for step in recipe.steps} == set(STEPS) - set(OF_SPECS)
    assert all(step.wish.endswith(".") for step in recipe.steps)
    assert parse_recipe(recipe_to_toml(recipe), "own") == recipe
    spec = parse_spec(SPEC + ALL_STEPS, "own")
    assert spec.steps == recipe.steps
    assert parse_spec(spec_to_toml(spec), "own") == spec


@pytest.mark.parametrize(
    ("steps", "words"),
    [
        ('do = "sweeten"', "step 1: no such step: sweeten; there are gain, cut"),
        ('do = "rate"\nhz = 44100', "step 1: no such step: rate"),
        ("db = 3", "step 1: do is missing"),
        ('do = "gain"', "step 1, db: is missing"),
        ('do = "gain"\ndb = nan', "step 1, db: "),
        ('do = "gain"\ndb = 3\nsoftly = true', "step 1, softly: no such key"),
        ('do = "gain"\ndb = "loud"', "step 1, db: "),
        ('do = "silence"\nhead_s = -1', "step 1, head_s: "),
        ('do = "silence"\nhead_s = 90000', "step 1, head_s: "),
        ('do = "silence"\nhead_s = 80000\ntail_s = 8000', "step 1, tail_s: 88000 s in all are more than a day"),
        ('do = "cut"\nfrom_s = 4\nto_s = 2', "step 1, to_s: 2 lies before from_s, 4"),
        ('do = "gate"\nbelow_db = -50\nreduce_db = inf', "step 1, reduce_db: "),
        ('do = "high_pass"\nhz = 80\norder = 9', "step 1, order: "),
        ('do = "keep"\nchannels = [0]', "step 1, channels: "),
        (
            'do = "mix"\nrows = [[1.0, 0.0]]\nlayout = "stereo"',
            "step 1, rows: stereo has 2 channels, and there are 1",
        ),
        ('do = "delay"\nchannels = [2]\nsamples = "soon"', "step 1, samples: "),
        ('do = "even"\namount = "wild"', "step 1, amount: "),
    ],
)
def test_what_is_wrong_in_itself_is_a_broken_recipe(steps, words):
    for parse, head in ((parse_recipe, HEAD), (parse_spec, SPEC)):
        with pytest.raises(SpecError) as raised:
            parse(f"{head}[[steps]]\n{steps}\n", "own")
        assert raised.value.message.startswith(f"own: {words}")
        assert "\n" not in raised.value.message


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[[steps]]\ndo = 'dc'\n", "own: recipe: is missing"),
        ("[recipe]\n", "own: recipe, name: is missing"),
        (HEAD + "[colour]\nred = 1\n", "own: colour: no such key"),
        (HEAD + 'slug = "own"\n', "own: recipe, slug: no such key"),
        (HEAD + "[[steps]]\ndo = 'dc'\n" * 65, "own: steps: "),
        ("[recipe\n", "own: not readable as TOML"),
    ],
)
def test_a_file_that_is_no_recipe_says_why(text, words):
    with pytest.raises(SpecError) as raised:
        parse_recipe(text, "own")
    assert raised.value.message.startswith(words)


def test_the_recipes_that_ship():
    shipped = shipped_recipes()
    assert [recipe.name for recipe in shipped.values()] == [
        "Clean head", "Even out speech", "Louder, softly", "News from outside", "Speech from many channels",
        "Voice for a machine",
    ]  # fmt: skip
    assert [step.do for step in shipped["news-from-outside"].steps] == ["high_pass", "gate", "even", "pauses"]
    assert all(reasons_of(recipe) for slug, recipe in shipped.items() if slug != "even-out-speech")
    assert not any(list(harms_of(recipe.steps)) for recipe in shipped.values())
    with pytest.raises(SpecError, match="no such recipe; there are clean-head"):
        load_recipe("clean-tail")


def test_a_wish_of_the_limiter_holds_where_a_spec_has_none_of_its_own():
    softly, spec = load_recipe("louder-softly"), load_spec("podcast")
    assert softly.on(spec).method.soft_db == 3.0
    own = spec.model_copy(update={"method": spec.method.model_copy(update={"soft_db": 1.0})})
    assert softly.on(own) is own
    assert load_recipe("clean-head").on(spec) is spec


HARMS = [
    ([{"do": "gate", "below_db": -50}, {"do": "pauses", "below_db": -50}], "the gate turns down"),
    ([{"do": "pauses", "below_db": -50}, {"do": "gate", "below_db": -50}], ""),
    ([{"do": "gate", "below_db": -48, "reduce_db": 12}, {"do": "pauses", "below_db": -50}], ""),
    ([{"do": "fade", "out_s": 1}, {"do": "trim"}], "the fade comes before the trim"),
    ([{"do": "fade", "out_s": 1}, {"do": "trim", "where": "head"}], ""),
    ([{"do": "trim"}, {"do": "fade", "out_s": 1}], ""),
    ([{"do": "silence", "head_s": 2}, {"do": "trim"}], "taken out again by the trim"),
    ([{"do": "silence", "head_s": 2}, {"do": "trim", "where": "tail"}], ""),
    ([{"do": "silence", "head_s": 0.5}, {"do": "pauses"}], ""),
    ([{"do": "silence", "head_s": 2}, {"do": "pauses"}], "taken out again by the shortening"),
    ([{"do": "length", "seconds": 30}, {"do": "silence", "head_s": 2}], "put the exact length last"),
    ([{"do": "silence", "head_s": 2}, {"do": "tick"}], "mend it first"),
]


@pytest.mark.parametrize(("steps", "words"), HARMS)
def test_steps_that_harm_each_other_are_said(steps, words):
    found = list(harms_of(recipe_from_json(steps)))
    assert len(found) == bool(words)
    assert all(words in harm.sentence and (harm.earlier, harm.later) == (0, 1) for harm in found)
