"""Hearing by Flask's own client: seconds of takes, sheets, joins, blind comparisons, before and after."""

import re

import numpy as np
import pytest
import soundfile

from nicelevel.core.specs import parse_spec
from nicelevel.core.specs.write import spec_to_toml
from nicelevel.store.deliverables import file_of
from nicelevel.store.jobs import add_destination
from nicelevel.store.models import BlindTest, Deliverable, Destination
from nicelevel.store.specs import keep_version
from tests import signals
from tests.core.measuring import meter_signal

from .uploading import JSON, upload, wav

RATE = 48_000


def _mix():
    """What is limited to be loud: hits over a bed of noise."""
    return 0.7 * signals.drums(8) + 0.25 * signals.noise(8, -14, seed=1)


@pytest.fixture
def mix(client, job, work_off):
    source = upload(client, job, "mix.wav", wav(_mix())).json["source"]
    work_off()
    return source


@pytest.fixture
def loud(job):
    return next(each for each in Destination.select().where(Destination.job == job) if "loud" in each.spec.slug)


@pytest.fixture
def made(client, job, mix, loud, work_off):
    client.post(f"/jobs/{job.id}/render", data={"source": mix, "destination": loud.id})
    work_off()
    return Deliverable.get(Deliverable.source == mix, Deliverable.destination == loud.id)


def _heard(client, address):
    answer = client.get(address)
    assert answer.status_code == 200, answer.text
    return np.frombuffer(answer.data, "<f4").reshape(-1, 2)


def test_a_second_of_a_source_is_what_its_file_holds(client, mix):
    whole, _ = soundfile.read(_bytes(_mix()))
    assert np.array_equal(_heard(client, f"/hear/source-{mix}/48000/3"), whole[3 * RATE : 4 * RATE].astype("f4"))
    assert len(_heard(client, f"/hear/source-{mix}/44100/3")) == 44_100


def _bytes(signal):
    import io

    return io.BytesIO(wav(signal))


def test_a_plan_is_heard_as_it_will_be_written(client, app, mix, loud, made):
    """Rounded it is the deliverable bit for bit; before that within a step and a half of dither."""
    assert made.state == "proved"
    with app.app_context():
        path = file_of(made, app.config["NICE_LEVEL"].deliverables_folder)
    written, rate = soundfile.read(path)
    there = written[2 * rate : 3 * rate]
    plan = f"/hear/plan-{mix}-{loud.id}/{rate}/2"
    assert np.array_equal(_heard(client, f"{plan}?finish=rounded"), there.astype("f4"))
    assert np.abs(_heard(client, plan) - there).max() < 1.6 * 2.0**-23
    assert np.array_equal(_heard(client, f"/hear/made-{made.id}/{rate}/2"), there.astype("f4"))


def test_what_can_be_read_from_its_start_alone_is_heard_from_anywhere_in_its_place(client, job, mix, work_off):
    keep_version(
        "air",
        spec_to_toml(
            parse_spec(
                '[spec]\nname = "Air"\n[loudness]\ntarget = -24.0\ntolerance = 0.5\n[[formats]]\n'
                'container = "ac3"\nencoding = "ac3"\nbitrate_kbps = 192\n',
                "air",
            )
        ),
    )
    air = add_destination(job.id, "air")
    client.post(f"/jobs/{job.id}/render", data={"source": mix, "destination": air.id})
    work_off()
    made = Deliverable.get(Deliverable.source == mix, Deliverable.destination == air.id)
    assert made.state == "proved"
    heard = _heard(client, f"/hear/made-{made.id}/48000/5")
    plan = _heard(client, f"/hear/plan-{mix}-{air.id}/48000/5")
    likeness = [np.dot(heard[600:-600, 0], plan[600 + lag : len(plan) - 600 + lag, 0]) for lag in range(-600, 600)]
    assert int(np.argmax(likeness)) - 600 == 0, "aligned to the sample"


def test_the_difference_is_what_is_left_after_both_gains(client, mix, loud, made):
    one, other = (_heard(client, f"/hear/{key}/48000/1") for key in (f"made-{made.id}", f"source-{mix}"))
    left = _heard(client, f"/hear/made-{made.id}/less/source-{mix}/48000/1?gain=-6&less=1.5")
    assert left == pytest.approx(one * 10 ** (-6 / 20) - other * 10 ** (1.5 / 20), abs=1e-6)


def test_rounding_noise_is_heard_in_three_ways(client, mix, loud):
    noise = {
        kind: _heard(client, f"/hear/plan-{mix}-{loud.id}/noise/{kind}/48000/1")
        for kind in ("none", "tpdf", "shaped")
    }
    assert 0 < np.std(noise["none"]) < np.std(noise["tpdf"]) < np.std(noise["shaped"])


@pytest.mark.parametrize(
    ("address", "status"),
    [
        ("/hear/source-999/48000/0", 404),
        ("/hear/source-x/48000/0", 404),
        ("/hear/..-1/48000/0", 404),
        ("/hear/plan-1/48000/0", 404),
        ("/hear/made-1-2/48000/0", 404),
        ("/hear/source-{mix}/48000/900", 404),
        ("/hear/source-{mix}/4000/0", 422),
        ("/hear/source-{mix}/999999/0", 422),
        ("/hear/source-{mix}/48000/0?finish=loud", 404),
        ("/hear/source-{mix}/less/source-{mix}/48000/0?gain=900", 400),
        ("/hear/source-{mix}/noise/tpdf/48000/0", 404),
        ("/blind/77/0/48000/0", 404),
    ],
)
def test_what_is_not_there_says_so(client, mix, address, status):
    answer = client.get(address.format(mix=mix), headers=JSON)
    assert answer.status_code == status
    assert answer.json["error"]["message"].endswith(".")


def test_the_transport_names_every_take_with_its_gain(client, mix, loud, made):
    page = client.get(f"/sources/{mix}/hear?destination={loud.id}").text
    takes = dict(re.findall(r'data-take="([^"]+)" data-kind="([^"]+)"', page))
    assert takes[f"source-{mix}"] == "source"
    assert takes[f"plan-{mix}-{loud.id}"] == "plan"
    assert takes[f"made-{made.id}"] == "made"
    gains = dict(re.findall(r'data-take="([^"]+)"[^>]*data-gain="([^"]+)"', page))
    difference = float(gains[f"source-{mix}"]) - float(gains[f"made-{made.id}"])
    source, deliverable = (made.plan["predicted"]["integrated_lufs"], made.measured["integrated_lufs"])
    assert difference == pytest.approx(made.measured["integrated_lufs"] - _loudness(client, mix), abs=0.001)
    assert source == pytest.approx(deliverable, abs=0.05)


def _loudness(client, mix):
    from nicelevel.store.models import Source
    from nicelevel.store.readings import load_figures
    from nicelevel.web.found import audio

    with client.application.app_context():
        return load_figures(Source.get_by_id(mix).digest, audio()).integrated_lufs


def test_joins_go_through_a_list_as_it_lands(client, job, mix, loud, work_off):
    other = upload(client, job, "next.wav", wav(0.5 * signals.programme(5, seed=4))).json["source"]
    work_off()
    found = client.get(f"/jobs/{job.id}/joins/{loud.id}?source={mix}&source={other}").json
    (join,) = found["joins"]
    assert join["words"] == "mix into next"
    ends = [(part["key"], part["from_s"], part["to_s"]) for part in join["parts"]]
    assert ends == [(f"plan-{mix}-{loud.id}", 5.0, 8.0), (f"plan-{other}-{loud.id}", 0.0, 3.0)]
    alone = client.get(f"/jobs/{job.id}/joins/{loud.id}?source={mix}", headers=JSON)
    assert (alone.status_code, alone.json["error"]["code"]) == (404, "not_found")


def test_a_blind_comparison_hides_is_scored_and_kept(client, mix, loud, made):
    """Nothing that comes to the page says what is hidden; ten answers make a verdict."""
    keys = {"one": f"source-{mix}", "other": f"made-{made.id}", "destination": loud.id}
    page = client.post(f"/sources/{mix}/blind", data=keys).text
    number = int(re.search(r'data-test="(\d+)"', page)[1])
    known = {side: _heard(client, f"/hear/{keys[side]}/48000/1") for side in ("one", "other")}
    for trial in range(10):
        test = BlindTest.get_by_id(number)
        hidden = test.trials[trial]["hidden"]
        answer = client.get(f"/blind/{number}/{trial}/48000/1")
        assert answer.headers["Cache-Control"] == "no-store"
        gain = 10 ** (test.gains_db[("one", "other").index(hidden)] / 20)
        heard = np.frombuffer(answer.data, "<f4").reshape(-1, 2)
        assert heard == pytest.approx(known[hidden] * gain, abs=1e-6)
        wrong = "other" if hidden == "one" else "one"
        said = wrong if trial == 4 else hidden
        page = client.post(f"/blind/{number}/answer", data={"trial": trial, "said": said}).text
        assert ("right" in page) == (trial == 9), "no hint before the verdict"
    assert "9 of 10 right; guessing does as well 1.1 % of the time: the difference is heard" in page
    again = client.post(f"/blind/{number}/answer", data={"trial": 4, "said": "one"}).text
    assert "9 of 10" in again, "an answer stands"
    assert "9 of 10" in client.get(f"/sources/{mix}/compare/{loud.id}").text, "kept with the job"


def test_a_blind_comparison_needs_two_takes_that_are_there(client, mix, loud):
    for other in (f"source-{mix}", "made-999", ""):
        answer = client.post(f"/sources/{mix}/blind", data={"one": f"source-{mix}", "other": other})
        assert answer.status_code == 404


def test_before_and_after_are_drawn_from_what_was_measured(client, mix, loud, made):
    signal = _mix()
    page = client.get(f"/sources/{mix}/compare/{loud.id}").text
    assert "What the plan does" in page
    assert made.plan["action"] == "limit"
    rows = np.frombuffer(
        client.get(f"/sources/{mix}/compare/{loud.id}/columns?first=2&last=3&count=100").data, "<f4"
    ).reshape(5, -1)
    part = signal[2 * RATE : 3 * RATE].reshape(100, -1)
    assert rows[0] == pytest.approx(part.min(axis=1), abs=2e-4)
    assert rows[1] == pytest.approx(part.max(axis=1), abs=2e-4)
    ceiling = 10 ** (-1.0 / 20)
    assert rows[3].max() <= ceiling + 1e-3
    assert rows[3].max() > rows[1].max()
    whole = np.frombuffer(client.get(f"/sources/{mix}/compare/{loud.id}/columns?first=0&last=8&count=40").data, "<f4")
    assert np.nanmax(whole.reshape(5, -1)[4]) == pytest.approx(made.plan["limiting_db"], abs=0.2)
    series = np.frombuffer(client.get(f"/sources/{mix}/compare/{loud.id}/series").data, "<f4").reshape(2, -1)
    assert np.nanmax(series[1]) == pytest.approx(made.measured["max_short_term_lufs"], abs=0.1)
    for wrong in ("first=3&last=2", "first=-1&last=2", "first=0&last=900"):
        assert client.get(f"/sources/{mix}/compare/{loud.id}/columns?{wrong}").status_code == 400


def test_versions_are_compared_in_words(client, job, work_off):
    first = signals.programme(30, seed=5)
    second = 1.25 * first
    second[12 * RATE : 16 * RATE] *= 0.5
    ids = []
    for name, signal in (("tide_v1.wav", 0.3 * first), ("tide_v2.wav", 0.3 * second)):
        ids.append(upload(client, job, name, wav(signal)).json["source"])
        work_off()
    destination = Destination.select().where(Destination.job == job).first()
    page = client.get(f"/sources/{ids[1]}/compare/{destination.id}?against=source-{ids[0]}").text
    assert "LU louder" in page
    assert "data-pending" in page
    assert "Nothing else is different" not in page
    work_off()
    page = client.get(f"/sources/{ids[1]}/changed/{ids[0]}").text
    assert "data-pending" not in page
    assert "What is the same moved by +1.94 dB" in page
    assert "Different from 0:12.0 to 0:16.0" in page
    assert client.get(f"/sources/{ids[1]}/compare/{destination.id}?against=source-999").status_code == 404


def test_surround_is_matched_by_what_two_loudspeakers_get(client, job, loud, work_off):
    """Fold-downs of source and plan and a plan in mono, each at its gain, measured as they come, are equally loud."""
    tones = ((220, -6), (330, -7), (440, -2), (60, -10), (550, -12), (660, -14))  # a loud centre
    six = np.hstack([signals.sine(hz, level, 10) for hz, level in tones])
    handset = add_destination(job.id, "speech-handset")
    source = upload(client, job, "storm.wav", wav(six)).json["source"]
    work_off()
    work_off()  # what the first round put on the queue last
    page = client.get(f"/sources/{source}/hear?destination={loud.id}").text
    gains = {key: float(gain) for key, gain in re.findall(r'data-take="([^"]+)"[^>]*data-gain="([^"]+)"', page)}
    loudness = {}
    for key in (f"source-{source}", f"plan-{source}-{loud.id}", f"plan-{source}-{handset.id}"):
        whole = np.concatenate([_heard(client, f"/hear/{key}/48000/{second}") for second in range(10)])
        assert np.abs(whole).max() * 10 ** (gains[key] / 20) <= 1.0, "a fold-down may be higher than its channels"
        loudness[key] = meter_signal(whole * 10 ** (gains[key] / 20)).integrated_lufs
    assert list(loudness.values()) == pytest.approx([loudness[f"source-{source}"]] * 3, abs=0.1)
