"""A spec whose level is that of what is spoken: planned, limited, written, proved; what was really said by the
reference meter of the tests.
"""

import math

import numpy as np
import pytest
import soundfile

from nicelevel.core.errors import CannotMeetError, SpecError
from nicelevel.core.measure import measure
from nicelevel.core.plan import plans
from nicelevel.core.prepare import Workshop
from nicelevel.core.process import process
from nicelevel.core.prove import measured_for
from nicelevel.core.specs import judge
from nicelevel.core.specs.match import match_spec
from nicelevel.core.specs.write import spec_of_tables
from tests import episodes, reference, signals
from tests.signals import ratio
from tests.speech_and_music import music, talk

RATE_HZ, SECONDS, SEED = episodes.RATE_HZ, 40, 37


def _spec(target=-27.0, encoding="pcm_24", container="wav", **more):
    return spec_of_tables(
        {
            "spec": {"name": "By what is spoken", "source": "test"},
            "loudness": {"measure": "dialogue", "target": target, "tolerance": 0.5},
            "limits": {"max_true_peak_dbtp": -2.0},
            "method": more.pop("method", {"allow": "gain"}),
            "formats": [{"container": container, "encoding": encoding, **more}],
        },
        "spoken",
    )


@pytest.fixture(scope="module")
def scene(tmp_path_factory):
    """Speech over soft music for forty seconds, then loud music alone for as long; a path, and what was said."""
    voice, said = talk(SEED, SECONDS)
    under = music("strings", SECONDS, SEED) * ratio(-16.0)
    alone = music("strings", SECONDS, SEED) * ratio(5.0)
    whole = np.concatenate([voice + under, alone])
    path = signals.write(tmp_path_factory.mktemp("scene") / "scene.wav", 0.25 * whole, RATE_HZ, "DOUBLE")
    return path, np.concatenate([said, np.zeros(len(alone))]) > 0.5


def _spoken_lufs(path, said):
    """By the reference meter: only what is said, one part after the other."""
    samples = soundfile.read(path, always_2d=True)[0]
    return reference.integrated_lufs(samples[: len(said)][said[: len(samples)]], RATE_HZ)


def test_speech_and_not_the_music_after_it_is_brought_to_the_target(scene, tmp_path):
    path, said = scene
    (made,) = process(path, _spec(), tmp_path)
    assert made.proof.verdict.meets
    assert made.proof.reading.dialogue_lufs == pytest.approx(-27.0, abs=0.05)
    assert _spoken_lufs(made.path, said) == pytest.approx(-27.0, abs=0.4)
    # what all of it has is somewhere else: the music is louder
    assert made.proof.reading.integrated_lufs > -25.0
    assert made.plan.predicted.dialogue_lufs == pytest.approx(made.proof.reading.dialogue_lufs, abs=0.02)


def test_a_limiter_leaves_the_speech_on_the_target(scene, tmp_path):
    path, said = scene
    (made,) = process(path, _spec(-20.0, method={"allow": "limiter"}), tmp_path)
    assert made.plan.action == "limit"
    assert made.proof.reading.dialogue_lufs == pytest.approx(-20.0, abs=0.1)
    assert made.proof.reading.true_peak_dbtp <= -2.0
    assert _spoken_lufs(made.path, said) == pytest.approx(-20.0, abs=0.5)


def test_another_rate_and_an_encoder_are_heard_again_in_the_proof(scene, tmp_path):
    path, _ = scene
    spec = _spec(-24.0, "mp3", "mp3", sample_rate=44_100, bitrate_kbps=192)
    (made,) = process(path, spec, tmp_path)
    assert made.proof.verdict.meets
    assert made.proof.reading.dialogue_lufs == pytest.approx(-24.0, abs=0.2)
    assert made.proof.reading.dialogue_lufs == measured_for(made.path, spec).dialogue_lufs


def test_what_a_stream_states_is_the_level_of_speech(scene, tmp_path):
    path, _ = scene
    (made,) = process(path, _spec(-27.0, "ac3", "ac3", sample_rate=48_000, bitrate_kbps=192), tmp_path)
    assert made.proof.reading.source.dialnorm_db == -27
    assert made.proof.reading.integrated_lufs > -25.0
    (stated,) = [each for each in made.proof.verdict.findings if each.rule == "dialnorm"]
    assert stated.meets


def test_where_nobody_speaks_the_reason_says_so(tmp_path):
    path = signals.write(tmp_path / "sea.wav", signals.noise(12, -30), 48_000)
    with Workshop(path, with_hops=False) as workshop:
        (plan,) = plans(workshop.source(), workshop.measured, _spec())
    assert plan.action == "cannot_meet"
    assert plan.reasons[0].startswith("Nobody speaks in it")
    with pytest.raises(CannotMeetError, match="Nobody speaks"):
        process(path, _spec(), tmp_path / "out")
    assert list((tmp_path / "out").glob("*")) == []


def test_a_file_is_judged_by_what_is_spoken_in_it(scene):
    path, said = scene
    level = _spoken_lufs(path, said)
    near, far = (judge(measured_for(path, spec), spec) for spec in (_spec(level), _spec(level - 3.0)))
    assert near.findings[0].meets
    assert not far.findings[0].meets
    assert near.findings[0].rule == "dialogue"
    assert measured_for(path, match_spec(measure(path), "x", "integrated", "x")).dialogue_lufs is None


def test_a_reading_that_was_not_listened_to_has_no_such_level(scene):
    reading = measure(scene[0])
    assert reading.dialogue_lufs is None
    assert math.isfinite(reading.level_to_state_lufs)
    with pytest.raises(SpecError):
        match_spec(reading, "Scene", "dialogue", "like")
