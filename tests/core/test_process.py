"""The whole way: what is written is what was planned, and is proved by other readers too."""

import os

import numpy as np
import pytest
import soundfile

from nicelevel.core.digest import sha256_of
from nicelevel.core.errors import CannotMeetError, OutputExistsError, StoppedError
from nicelevel.core.measure import measure
from nicelevel.core.process import process
from nicelevel.core.produce import Order, produce
from nicelevel.core.render import render
from nicelevel.core.specs import parse_spec, shipped_specs
from tests import reference, signals
from tests.core.measuring import as_it_is, planned

# Ten varied files: rate, channels, sample type, container, level.
_VARIED = [
    (48_000, 2, "PCM_24", "wav"),
    (44_100, 2, "PCM_16", "wav"),
    (96_000, 2, "PCM_24", "wav"),
    (48_000, 1, "PCM_24", "flac"),
    (44_100, 1, "PCM_16", "aiff"),
    (48_000, 6, "PCM_24", "wav"),
    (32_000, 2, "FLOAT", "wav"),
    (22_050, 2, "PCM_U8", "wav"),
    (16_000, 1, "PCM_16", "flac"),
    (48_000, 2, "DOUBLE", "wav"),
]


@pytest.mark.parametrize("number", range(len(_VARIED)))
@pytest.mark.parametrize("slug", ["european-broadcast", "streamed-speech", "loud-streaming"])
def test_predicted_is_what_is_proved(tmp_path, number, slug):
    rate, channels, subtype, container = _VARIED[number]
    signal = 0.15 * np.tanh(8 * signals.programme(8, rate, channels, seed=number))
    path = signals.write(tmp_path / f"mix.{container}", signal, rate, subtype)
    for done in process(path, shipped_specs()[slug], tmp_path):
        predicted, proved = done.plan.predicted, done.proof.reading
        assert proved.integrated_lufs == pytest.approx(predicted.integrated_lufs, abs=0.05)
        assert proved.true_peak_dbtp == pytest.approx(predicted.true_peak_dbtp, abs=0.1)
        assert proved.loudness_range_lu == pytest.approx(predicted.loudness_range_lu, abs=0.1)
        about = 0.1 if predicted.source.size_is_estimate else 0.0
        assert predicted.source.size_bytes == pytest.approx(proved.source.size_bytes, rel=about, abs=0.0)
        assert done.proof.verdict.meets
        written, written_rate = soundfile.read(done.path, always_2d=True)
        to_rate = 48_000 if slug == "european-broadcast" else rate
        assert (len(written), written_rate) == (-(-len(signal) * to_rate // rate), to_rate)
        if channels <= 2:
            assert reference.read(written, to_rate).integrated_lufs == pytest.approx(proved.integrated_lufs, abs=0.02)


def test_untouched_is_bit_identical(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.noise(1), subtype="PCM_16")
    (done,) = process(path, shipped_specs()["full-resolution"], tmp_path)
    assert np.array_equal(soundfile.read(done.path, dtype="int16")[0], soundfile.read(path, dtype="int16")[0])


def test_floating_point_above_full_scale_is_handed_over_whole(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.sine(1000, 6, 1), subtype="FLOAT")
    (done,) = process(path, shipped_specs()["full-resolution"], tmp_path)
    assert np.array_equal(soundfile.read(done.path)[0], soundfile.read(path)[0])


def test_the_same_input_gives_the_same_bytes(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.programme(2))
    digests = set()
    for number in range(2):
        (tmp_path / str(number)).mkdir()
        (done,) = process(path, shipped_specs()["podcast"], tmp_path / str(number))
        digests.add(done.proof.sha256)
        assert done.proof.sha256 == sha256_of(done.path)
    assert len(digests) == 1


def test_a_source_is_never_changed_and_nothing_temporary_stays(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.programme(2))
    os.chmod(path, 0o444)
    before = sha256_of(path)
    process(path, shipped_specs()["podcast"], tmp_path)
    assert sha256_of(path) == before
    assert sorted(entry.name for entry in tmp_path.iterdir()) == ["mix.wav", "mix_podcast.mp3"]


def test_cannot_meet_is_an_error_before_anything_is_written(tmp_path):
    signal = 0.01 * signals.noise(3)
    signal[10_000] = 0.9
    path = signals.write(tmp_path / "mix.wav", signal)
    with pytest.raises(CannotMeetError, match="over the ceiling"):
        process(path, shipped_specs()["european-broadcast"], tmp_path)
    assert [entry.name for entry in tmp_path.iterdir()] == ["mix.wav"]


def test_an_existing_output_is_refused_before_work(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.programme(1))
    process(path, shipped_specs()["full-resolution"], tmp_path)
    with pytest.raises(OutputExistsError):
        process(path, shipped_specs()["full-resolution"], tmp_path)
    process(path, shipped_specs()["full-resolution"], tmp_path, replace=True)


def test_stopped_in_the_middle_leaves_nothing(tmp_path):
    path = signals.write(tmp_path / "mix.wav", signals.noise(5))
    calls = []

    def stop_later(ratio):
        calls.append(ratio)
        if ratio > 0.5:
            raise StoppedError("Stopped.")

    with pytest.raises(StoppedError):
        process(path, shipped_specs()["podcast"], tmp_path, progress=stop_later)
    assert calls == sorted(calls)
    assert [entry.name for entry in tmp_path.iterdir()] == ["mix.wav"]


def test_a_file_that_misses_is_kept_under_a_name_that_says_so(tmp_path):
    """Proved by a spec that it was not planned for: what a wrong prediction would lead to."""
    path = signals.write(tmp_path / "mix.wav", signals.noise(3, -20))
    found = planned(measure(path), shipped_specs()["podcast"])
    specs = shipped_specs()
    order = Order(
        path,
        found.predicted.source,
        specs["podcast"],
        specs["european-broadcast"],
        (found, None),
        lambda _: as_it_is(measure(path)),
        None,
    )
    done = produce(order, tmp_path / "out.wav")
    assert done.path.name == "out MISSES ITS SPEC.wav"
    assert not done.proof.verdict.meets
    assert not (tmp_path / "out.wav").exists()


def test_odd_block_borders_change_no_byte(tmp_path, monkeypatch):
    path = signals.write(tmp_path / "mix.wav", signals.programme(1.01))
    found = planned(measure(path), shipped_specs()["podcast"])
    digests = set()
    for size in (1 << 16, 1_001):
        monkeypatch.setattr("nicelevel.core.render.pipeline.BLOCK_FRAMES", size)
        staged = render(path, found, None, tmp_path / "out.wav")
        digests.add(sha256_of(staged.path))
        staged.discard()
    assert len(digests) == 1


def test_formats_of_one_spec_are_all_written(tmp_path):
    spec = parse_spec(
        '[spec]\nname="House"\n[output]\nname="{title}_{bits}"\n'
        '[[formats]]\ncontainer="wav"\nencoding="pcm_24"\n[[formats]]\ncontainer="wav"\nencoding="pcm_16"\n'
        '[[formats]]\ncontainer="aiff"\nencoding="pcm_16"\n[[formats]]\ncontainer="flac"\nencoding="pcm_16"\n',
        "house",
    )
    path = signals.write(tmp_path / "mix.wav", signals.programme(1))
    done = process(path, spec, tmp_path)
    assert [each.path.name for each in done] == ["mix_24.wav", "mix_16.wav", "mix_16.aiff", "mix_16.flac"]
    samples = [soundfile.read(each.path, dtype="int16")[0] for each in done[1:]]
    assert np.array_equal(samples[0], samples[1])
    assert np.array_equal(samples[0], samples[2])
