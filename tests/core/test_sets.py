"""Sets: proposed from names and lengths; one gain and one curve, so that the sum of the stems stays the mix."""

import numpy as np
import pytest

from nicelevel.core.plan import plan
from nicelevel.core.plan.formats import resolve_format
from nicelevel.core.plan.limit import envelope_of, limited_by
from nicelevel.core.plan.per_channel import limited_of_plan
from nicelevel.core.plan.sets import Candidate, limited_with, member_plan, propose_sets, track_plan
from nicelevel.core.prepare import prepare
from nicelevel.core.render.limiting import limit_block
from nicelevel.core.specs import parse_spec
from nicelevel.core.values import Limiter
from tests import signals

from .measuring import source_of

RATE = 48_000


def _candidate(name, frames=1000, rate=RATE):
    return Candidate(name, name, source_of(np.zeros((frames, 2)), rate, None))


@pytest.mark.parametrize(
    ("names", "leader", "members"),
    [
        (["theme", "theme_strings", "theme_bells"], "theme", {"theme_strings", "theme_bells"}),
        (["Song MIX", "Song - Drums", "Song - Bass", "Other"], "Song MIX", {"Song - Drums", "Song - Bass"}),
        (["ep_01_master", "ep_01_voice"], "ep_01_master", {"ep_01_voice"}),
    ],
)
def test_a_mix_and_its_stems_are_told_by_their_names(names, leader, members):
    (found,) = propose_sets([_candidate(name) for name in names])
    assert found.leader == leader
    assert set(found.members) == members


def test_what_is_of_another_length_or_name_stays_alone():
    assert propose_sets([_candidate("theme"), _candidate("theme_strings", frames=999)]) == ()
    assert propose_sets([_candidate("theme"), _candidate("theme_strings", rate=44_100)]) == ()
    mono = Candidate("theme_voice", "theme_voice", source_of(np.zeros((1000, 1)), RATE, None))
    assert propose_sets([_candidate("theme"), mono]) == ()
    assert propose_sets([_candidate("one"), _candidate("two"), _candidate("themes")]) == ()
    assert propose_sets([_candidate("mix"), _candidate("mix_strings")]) == ()


SPEC = (
    '[spec]\nname = "x"\n[loudness]\ntarget = -16.0\ntolerance = 0.2\n[limits]\nmax_true_peak_dbtp = -1.0\n'
    '[method]\nallow = "limiter"\n[[formats]]\ncontainer = "wav"\nencoding = "float_32"\n'
)


def test_one_gain_and_one_curve_keep_the_sum(tmp_path):
    stems = [signals.drums(5.0), 0.1 * signals.band_limited(signals.programme(5, seed=3), RATE)]
    mix = 0.8 * (stems[0] + stems[1])
    stems = [0.8 * stem for stem in stems]
    prepared = []
    for number, signal in enumerate((mix, *stems)):
        (tmp_path / str(number)).mkdir()
        path = signals.write(tmp_path / f"{number}.wav", signal, subtype="DOUBLE")
        prepared.append(prepare(path, hops_folder=tmp_path / str(number)))
    spec = parse_spec(SPEC, "x")
    leader = plan(prepared[0].reading.source, lambda _: prepared[0], spec)
    assert leader.action == "limit"
    leaders = limited_by(prepared[0], leader)
    written = []
    for number, signal in enumerate((mix, *stems)):
        audio = signal * 10 ** (leader.gain_db / 20)
        limit_block(audio, 0, RATE, leaders.left.curve)
        written.append(audio)
        if number:
            output = resolve_format(prepared[number].reading.source, spec.formats[0], spec)
            found = member_plan(prepared[number], spec, output, leader, leaders, "Song")
            assert (found.gain_db, found.action) == (leader.gain_db, "limit")
            assert "so that the sum of the set holds" in found.reasons[0]
            path = signals.write(tmp_path / "written.wav", audio, subtype="DOUBLE")
            truth = prepare(path).reading
            assert found.predicted.integrated_lufs == pytest.approx(truth.integrated_lufs, abs=0.05)
            assert truth.true_peak_dbtp <= found.predicted.true_peak_dbtp + 0.02
    assert np.abs(written[0] - written[1] - written[2]).max() < 1e-9


def test_a_member_that_passes_a_limit_says_so(tmp_path):
    """Two stems that cancel in part are each louder than their mix."""
    loud = 0.9 * signals.both(signals.sine(1000, 0.0, 4))
    mix = 0.1 * loud
    prepared = []
    for name, signal in (("mix", mix), ("stem", loud)):
        (tmp_path / name).mkdir()
        path = signals.write(tmp_path / f"{name}.wav", signal, subtype="DOUBLE")
        prepared.append(prepare(path, hops_folder=tmp_path / name))
    spec = parse_spec(SPEC, "x")
    leader = plan(prepared[0].reading.source, lambda _: prepared[0], spec)
    output = resolve_format(prepared[1].reading.source, spec.formats[0], spec)
    found = member_plan(prepared[1], spec, output, leader, None, "Mix")
    assert leader.action == "gain"
    assert found.action == "cannot_meet"
    assert "passes a limit" in found.reasons[1]
    assert limited_with(prepared[1], 0.0, _untouched(prepared[0])).true_peak == pytest.approx(0.9, abs=0.001)


def _song(tmp_path, name, signal):
    (tmp_path / name).mkdir()
    path = signals.write(tmp_path / f"{name}.wav", signal, subtype="DOUBLE")
    return prepare(path, hops_folder=tmp_path / name)


def test_a_track_has_the_gain_of_its_album_and_a_limiter_of_its_own(tmp_path):
    """Its limiter works where its own peaks are, not where the loudest track's are."""
    late = 0.05 * signals.programme(6, seed=2)
    late[200_000, :] = 0.7
    loudest, track = _song(tmp_path, "loudest", 0.7 * signals.drums(5.0)), _song(tmp_path, "track", late)
    spec = parse_spec(SPEC, "x")
    leader = plan(loudest.reading.source, lambda _: loudest, spec)
    output = resolve_format(track.reading.source, spec.formats[0], spec)
    found = track_plan(track, spec, output, leader, "Loudest")
    assert leader.action == found.action == "limit"
    assert found.gain_db == leader.gain_db
    assert found.curve_of is None
    assert all(start <= 200_000 / RATE <= end for start, end in found.limiting.places)
    audio = late * 10 ** (found.gain_db / 20)
    limit_block(audio, 0, RATE, limited_of_plan(found, lambda _: track).left.curve)
    truth = prepare(signals.write(tmp_path / "written.wav", audio, subtype="DOUBLE")).reading
    assert found.predicted.integrated_lufs == pytest.approx(truth.integrated_lufs, abs=0.02)
    assert -1.2 < truth.true_peak_dbtp <= -1.0
    assert "one gain for the album" in found.reasons[0]


def test_a_track_whose_limiter_would_work_too_deep_cannot_meet(tmp_path):
    late = 0.05 * signals.programme(6, seed=2)
    late[200_000, :] = 0.9
    loudest, track = _song(tmp_path, "loudest", 0.1 * signals.programme(5)), _song(tmp_path, "track", late)
    spec = parse_spec(SPEC.replace('"limiter"', '"limiter"\nmax_limiting_db = 2.0'), "x")
    leader = plan(loudest.reading.source, lambda _: loudest, spec)
    output = resolve_format(track.reading.source, spec.formats[0], spec)
    found = track_plan(track, spec, output, leader, "Loudest")
    assert found.action == "cannot_meet"
    assert "2.0 dB are allowed" in found.reasons[1]


def _untouched(prepared):
    limiter = Limiter(0.0)
    return envelope_of(prepared, limiter).limited(0.0, limiter)
