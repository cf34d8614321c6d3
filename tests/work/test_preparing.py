"""Sources with recipes, and specs with steps: planned, rendered and handed over as the command line does it."""

import json

import numpy as np
import pytest
import soundfile

from nicelevel.core.digest import sha256_of
from nicelevel.core.recipes import load_recipe
from nicelevel.core.steps import recipe_from_json, recipe_to_json
from nicelevel.desk.contents import contents_of, recipe_of
from nicelevel.desk.current import current_deliverables
from nicelevel.desk.mending import mend_words, mending
from nicelevel.desk.planning import plans_of
from nicelevel.desk.recipes import give_named
from nicelevel.store.deliverables import deliverables_of, file_of
from nicelevel.store.jobs import add_destination, destinations_of
from nicelevel.store.models import Deliverable, Preparing, Reading, Source
from nicelevel.store.readings import is_measured, load_figures
from nicelevel.store.rules import add_rule
from nicelevel.store.sets import link_set
from nicelevel.store.sources import find_source, give_recipe, prepared_sources
from nicelevel.store.specs import keep_version, spec_of
from nicelevel.web.board import board_of
from nicelevel.work import tasks
from nicelevel.work.enqueue import enqueue_preparations, enqueue_renders, enqueue_source, measure_again
from nicelevel.work.reconcile import requeue_forgotten
from tests import signals

from .conftest import WAV_FEED

RATE_HZ = 48_000
FLOAT = (
    '[spec]\nname = "Float"\n[loudness]\ntarget = -20.0\ntolerance = 0.5\n'
    '[[formats]]\ncontainer = "wav"\nencoding = "float_64"\n'
)
LEAD_IN = FLOAT.replace("Float", "Lead-in") + '[[steps]]\ndo = "silence"\nhead_s = 0.5\n'


def _give(source, *steps, name="Own"):
    recipe = recipe_from_json(list(steps))
    give_recipe(source, json.dumps(recipe_to_json(recipe)), name)
    return find_source(source.id)


def _rendered(source, place, store, work_off, config):
    """The one deliverable of a source at a destination, and its samples."""
    enqueue_renders(source, place, store)
    work_off()
    (made,) = [
        each
        for each in deliverables_of(source.job_id)
        if (each.source_id, each.destination_id) == (source.id, place.id)
    ]
    assert made.state == "proved", made.error_message
    return made, soundfile.read(file_of(made, config.deliverables_folder), always_2d=True)[0]


def _with_gaps():
    """Two sounds with silence in front, between and behind."""
    parts = [signals.silence(1), signals.programme(2, seed=2), signals.silence(2), signals.programme(2, seed=3)]
    return np.concatenate([*parts, signals.silence(1.5)])


def test_a_soft_knee_is_asked_of_every_limiter_and_what_was_written_without_it_is_not_handed_over(
    take_in, work_off, store, job, config
):
    """Of a set its leader's; a spec's own figure stays."""
    (place, _) = destinations_of(job.id)
    song = 0.3 * signals.programme(6, seed=4)
    song[RATE_HZ :: RATE_HZ // 2] = 0.9
    source = take_in("song.wav", song)
    work_off()
    made, _ = _rendered(source, place, store, work_off, config)
    assert made.plan["action"] == "limit"
    assert [each.id for each in current_deliverables(job.id, store)] == [made.id]
    give_named(source, load_recipe("louder-softly"))
    source = find_source(source.id)
    (plan,) = plans_of(source, spec_of(place.spec), store)
    assert plan.limiting.limiter.soft_db == 3.0
    assert plan.chain.is_nothing
    assert current_deliverables(job.id, store) == []
    again, _ = _rendered(source, place, store, work_off, config)
    assert again.measured["true_peak_dbtp"] <= -1.0
    assert [each.id for each in current_deliverables(job.id, store)] == [again.id]
    part = take_in("part.wav", 0.5 * song)
    work_off()
    link_set(source, [part], "sum")
    (planned,) = plans_of(find_source(part.id), spec_of(place.spec), store)
    assert planned.limiting.limiter.soft_db == 3.0
    own = WAV_FEED.replace("[[formats]]", "soft_db = 1.5\n[[formats]]").replace("Feed", "Soft")
    keep_version("soft", own)
    (planned,) = plans_of(source, spec_of(add_destination(job.id, "soft").spec), store)
    assert planned.limiting.limiter.soft_db == 1.5


def test_a_source_is_delivered_as_its_recipe_makes_it(take_in, work_off, store, job, config):
    """Steps that listen come first, and what the format asks for after them is made too."""
    keep_version("mono", FLOAT.replace("Float", "Mono") + 'channels = "mono"\nsample_rate = 44100\n')
    place = add_destination(job.id, "mono")
    source = take_in("take.wav", _with_gaps())
    work_off()
    before = plans_of(source, spec_of(place.spec), store)[0]
    source = _give(source, {"do": "trim", "below_db": -50.0}, {"do": "pauses", "longer_than_s": 1.0, "keep_s": 0.25})
    enqueue_preparations(job.id, store)
    work_off()
    plan = plans_of(source, spec_of(place.spec), store)[0]
    assert [each.step.do for each in plan.chain.done] == ["trim", "pauses", "fold", "rate"]
    assert plan.predicted.source.duration_s == pytest.approx(4.25, abs=0.02)
    assert before.predicted.source.duration_s == 8.5
    made, samples = _rendered(source, place, store, work_off, config)
    assert len(samples) == plan.predicted.source.frames
    assert made.measured["integrated_lufs"] == pytest.approx(plan.predicted.integrated_lufs, abs=0.05)
    assert made.plan["prepared"][0].startswith("Took off 1.0")
    assert made.plan["prepared"][1].startswith("Took out 1 pause")
    assert [each.id for each in current_deliverables(job.id, store)] == [made.id]
    give_recipe(source, None, None)
    assert current_deliverables(job.id, store) == []


def test_a_spec_with_steps_has_them_done_to_every_file(take_in, work_off, store, job, config):
    keep_version("lead-in", LEAD_IN)
    place = add_destination(job.id, "lead-in")
    source = take_in("take.wav", signals.programme(2))
    work_off()
    _, samples = _rendered(source, place, store, work_off, config)
    assert len(samples) == round(2.5 * RATE_HZ)
    assert not samples[: RATE_HZ // 2].any()
    assert samples[RATE_HZ // 2 :].any(axis=1).all()


def test_stems_take_what_was_found_in_their_mix_and_keep_adding_up(take_in, work_off, store, job, config):
    """A gate and a trim of the mix: the same stretches of each stem, though one is silent there by itself."""
    keep_version("float", FLOAT)
    place = add_destination(job.id, "float")
    one, other = _with_gaps(), 0.4 * signals.noise(8.5, level_db=-40.0)
    one[:, 1] += 0.003
    other[: 3 * RATE_HZ] = 0.0
    leader = take_in("song.wav", one + other, subtype="DOUBLE")
    stems = [take_in("song_a.wav", one, subtype="DOUBLE"), take_in("song_b.wav", other, subtype="DOUBLE")]
    work_off()
    link_set(leader, stems, "sum")
    _give(
        leader,
        {"do": "dc"},
        {"do": "gate", "below_db": -45.0},
        {"do": "high_pass", "hz": 60.0},
        {"do": "trim", "below_db": -45.0},
    )
    enqueue_preparations(job.id, store)
    work_off()
    leader, *stems = [Source.get_by_id(each.id) for each in (leader, *stems)]
    assert contents_of(stems[0]).heard_in == leader.digest
    whole, *parts = [_rendered(each, place, store, work_off, config)[1] for each in (leader, *stems)]
    assert {part.shape for part in parts} == {whole.shape}
    assert len(whole) < 8.5 * RATE_HZ
    assert 20 * np.log10(np.abs(sum(parts) - whole).max()) < -100.0


def test_a_recipe_that_leaves_nothing_is_said_and_taken_back(take_in, work_off, store, job):
    source = take_in("take.wav", signals.noise(1, level_db=-40.0))
    work_off()
    source = _give(source, {"do": "trim", "below_db": -3.0})
    enqueue_preparations(job.id, store)
    work_off()
    (row,) = board_of(job, store).rows
    assert all("nothing is left" in cell.problem for cell in row.cells)
    give_recipe(source, None, None)
    assert all(cell.plan for cell in board_of(job, store).rows[0].cells)


def _ticking():
    sound = np.concatenate([signals.silence(3.0), signals.programme(3, seed=5), signals.silence(2.5)])
    sound[:, 0] += 0.004
    sound[100:110] = 0.5
    return sound


def test_notes_are_mended_and_gone(take_in, work_off, store, job):
    source = take_in("take.wav", _ticking())
    work_off()
    reading = load_figures(source.digest, store)
    codes = {note.code for note in reading.notes}
    assert {"tick_at_head", "dc"} <= codes
    steps = mending(reading)
    assert [step.do for step in steps][:2] == ["tick", "dc"]
    source = _give(source, *recipe_to_json(steps), name="Mended")
    enqueue_preparations(job.id, store)
    work_off()
    (row,) = board_of(job, store).rows
    left = {note.code for note in row.reading.notes}
    assert not left & {"tick_at_head", "dc"}
    assert len(prepared_sources("Mended")) == 1


@pytest.mark.parametrize(
    ("make", "code"),
    [
        (lambda sound: sound * [1.0, 0.0], "one_sided"),
        (lambda sound: sound * [0.0, 1.0], "one_sided"),
        (lambda sound: sound[:, :1] * [1.0, -1.0], "inverted"),
        (lambda sound: np.stack([sound[:, 0], np.roll(sound[:, 0], 200)], axis=1), "late_copy"),
    ],
)
def test_sides_are_mended(take_in, work_off, store, job, make, code):
    source = take_in("take.wav", make(signals.noise(5, level_db=-20.0)))
    work_off()
    reading = load_figures(source.digest, store)
    assert code in {note.code for note in reading.notes}
    assert mend_words(code)
    source = _give(source, *recipe_to_json(mending(reading, [code])))
    enqueue_preparations(job.id, store)
    work_off()
    (row,) = board_of(job, store).rows
    assert code not in {note.code for note in row.reading.notes}


def test_a_shipped_recipe_reaches_the_board(take_in, work_off, store, job):
    source = take_in("take.wav", _with_gaps())
    work_off()
    recipe = load_recipe("voice-for-a-machine")
    _give(source, *recipe_to_json(recipe.steps), name=recipe.name)
    enqueue_preparations(job.id, store)
    work_off()
    (row,) = board_of(job, store).rows
    assert row.reading.source.duration_s == pytest.approx(6.54, abs=0.02)
    assert all(cell.plan for cell in row.cells)
    assert destinations_of(job.id)


def test_what_was_written_before_there_were_recipes_is_not_taken_for_what_one_makes(
    take_in, work_off, store, job, config
):
    keep_version("float", FLOAT)
    place = add_destination(job.id, "float")
    source = take_in("take.wav", _with_gaps())
    work_off()
    made, _ = _rendered(source, place, store, work_off, config)
    Deliverable.update(plan_digest=None).where(Deliverable.id == made.id).execute()
    assert current_deliverables(job.id, store)
    _give(source, {"do": "silence", "head_s": 1.0})
    enqueue_preparations(job.id, store)
    work_off()
    assert current_deliverables(job.id, store) == []


def test_steps_that_were_changed_meanwhile_are_not_worked_on(take_in, work_off, store, job):
    source = take_in("take.wav", _with_gaps())
    work_off()
    for below_db in (-55.0, -50.0, -45.0):
        source = _give(source, {"do": "trim", "below_db": below_db})
        enqueue_preparations(job.id, store, [source.id])
    before = Reading.select().count()
    work_off()
    made = [row.digest for row in Preparing.select() if is_measured(row.digest)]
    own = contents_of(source)
    assert own.name_of(own.recipe) in made
    assert Reading.select().count() - before == 1


def test_a_file_that_replaces_another_is_prepared_as_that_was(take_in, work_off, store, job, tmp_path):
    source = take_in("take.wav", _with_gaps())
    work_off()
    source = _give(source, {"do": "trim", "below_db": -50.0}, name="Short")
    path = signals.write(tmp_path / "better.wav", 0.9 * _with_gaps())
    digest, size_bytes = sha256_of(path), path.stat().st_size
    store.adopt(path, digest)
    better = enqueue_source(job.id, "better.wav", digest, size_bytes, replaces=source)
    work_off()
    better = find_source(better.id)
    assert (better.recipe_name, recipe_of(better)) == ("Short", recipe_of(source))


def test_what_follows_from_being_measured_is_done_whole_or_not_at_all(take_in, work_off, job, monkeypatch):
    """A rule that was asked, and then lost its rendering with the worker, would never be asked again."""
    add_rule(job.id, "clean-head", renders=True)
    source = take_in("take.wav", signals.programme(2))
    with monkeypatch.context() as broken:

        def fail(*_):
            raise ValueError("lost here")

        broken.setattr(tasks, "defer_look_at_sets", fail)
        work_off()
    lost = find_source(source.id)
    assert (lost.state, lost.is_ruled, lost.recipe_name) == ("failed", False, None)
    assert deliverables_of(job.id) == []
    measure_again(lost)
    work_off()
    assert find_source(source.id).recipe_name == "Clean head"
    assert {each.state for each in deliverables_of(job.id)} == {"proved"}


def test_what_nobody_asks_for_any_more_before_it_is_made_is_forgotten(take_in, work_off, store, job):
    """Or it would be found without a job, and be queued again, for ever."""
    source = take_in("song.wav", signals.programme(2, seed=4))
    work_off()
    for db in (-3.0, -4.0):
        _give(source, {"do": "gain", "db": db})
        enqueue_preparations(job.id, store)
    work_off()
    assert [each.state for each in Preparing.select()] == ["done"]
    assert requeue_forgotten() == 0
    _give(source, {"do": "gain", "db": -3.0})
    enqueue_preparations(job.id, store)
    work_off()
    assert {each.state for each in Preparing.select()} == {"done"}
    assert all(is_measured(each.digest) for each in Preparing.select())
