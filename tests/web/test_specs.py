"""The Spec screen's routes: drafts, versions, copies, TOML in and out."""

import pytest

from nicelevel.core.errors import SpecError
from nicelevel.core.specs import parse_spec, shipped_specs
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Deliverable
from nicelevel.store.sources import sources_of
from nicelevel.store.specs import keep_version, known_spec, spec_of
from nicelevel.web.spec_fields import fields_of_spec, spec_of_fields
from tests import signals

from .uploading import JSON, upload, wav

OWN = """[spec]
name = "Client"

[loudness]
target = -20.0
tolerance = 0.5

[[formats]]
container = "wav"
encoding = "pcm_24"
"""


@pytest.fixture
def own(store):
    return keep_version("client", OWN)


@pytest.mark.parametrize("slug", shipped_specs())
def test_fields_hold_all_that_a_spec_says(slug):
    spec = shipped_specs()[slug]
    assert spec_of_fields(fields_of_spec(spec), slug) == spec


def test_every_spec_has_its_page(client, store):
    for slug in shipped_specs():
        page = client.get(f"/specs/{slug}")
        assert page.status_code == 200
        assert shipped_specs()[slug].spec.name in page.text
    assert client.get("/specs/nothing").status_code == 404


def test_a_draft_is_drawn_and_nothing_is_kept(client, own):
    fields = {**fields_of_spec(own.spec), "limits.max_short_term_lufs": "−25"}
    answer = client.post("/specs/client/draft", data=fields, headers=JSON)
    assert "cannot be where the level is −20" in answer.text
    assert known_spec("client").spec == own.spec


def test_a_broken_draft_is_a_sentence_that_names_the_key(client, own):
    fields = {**fields_of_spec(own.spec), "loudness.target": "loud"}
    answer = client.post("/specs/client/draft", data=fields, headers=JSON)
    assert answer.status_code == 422
    assert "loudness.target:" in answer.json["error"]["message"]


def test_keeping_makes_the_next_version_and_boards_follow(client, job, own):
    client.post(f"/jobs/{job.id}/destinations", data={"slug": "client"})
    fields = {**fields_of_spec(own.spec), "loudness.target": "−18"}
    answer = client.post("/specs/client/keep", data=fields, headers=JSON)
    assert answer.json["version"] == 2
    assert spec_of(destinations_of(job.id)[-1].spec).loudness.target == -18.0
    same = client.post("/specs/client/keep", data=fields, headers=JSON)
    assert same.json["version"] == 2
    back = client.post("/specs/client/keep", data=fields_of_spec(own.spec), headers=JSON)
    assert back.json["version"] == 3
    assert known_spec("client").spec.loudness.target == -20.0


def test_what_was_proved_keeps_the_version_it_was_judged_by(client, job, own, work_off):
    client.post(f"/jobs/{job.id}/destinations", data={"slug": "client"})
    place = destinations_of(job.id)[-1]
    upload(client, job, "mix.wav", wav(signals.noise(2, -30)))
    work_off()
    client.post(f"/jobs/{job.id}/render", data={"destination": place.id}, headers=JSON)
    work_off()
    made = Deliverable.get(Deliverable.destination == place.id)
    assert made.state == "proved"
    client.post("/specs/client/keep", data={**fields_of_spec(own.spec), "loudness.target": "−18"}, headers=JSON)
    assert spec_of(Deliverable.get_by_id(made.id).spec).loudness.target == -20.0
    cell = client.get(f"/jobs/{job.id}/parts").text.split(f'data-destination="{place.id}"')[0]
    assert 'data-state="gain"' in cell[-400:]


def test_what_a_spec_is_called_in_file_names_follows_its_name_until_a_file_was_written(client, job, work_off):
    slug = client.post("/specs/podcast/copy", data={}, headers=JSON).json["slug"]
    assert slug == "podcast-feed-own"

    def keep(slug, /, **changed):
        fields = fields_of_spec(known_spec(slug).spec) | {
            key.replace("__", "."): text for key, text in changed.items()
        }
        answer = client.post(f"/specs/{slug}/keep", data=fields, headers=JSON)
        return answer.json["address"].rpartition("/")[2] if answer.status_code == 200 else answer.json["error"]

    assert keep(slug, spec__name="Film People: Übergabe") == "film-people-ubergabe"
    assert keep("film-people-ubergabe", spec__name="CD master") == "cd-master"
    assert keep("cd-master", loudness__target="−15") == "cd-master"
    client.post(f"/jobs/{job.id}/destinations", data={"slug": "cd-master"})
    upload(client, job, "mix.wav", wav(signals.noise(2, -30)))
    work_off()
    client.post(f"/jobs/{job.id}/render", headers=JSON)
    work_off()
    assert any(str(made.file_name).startswith("mix_cd-master") for made in Deliverable.select())
    assert keep("cd-master", spec__name="Something else") == "cd-master"
    assert keep("cd-master", slug="else") == "else"
    assert "used by 1 job" in client.get("/specs/else").text
    assert client.get("/specs/cd-master").status_code == 404
    assert "another spec is called that" in keep("else", slug="podcast")["message"]
    assert "small letters" in keep("else", slug="../x")["message"]


def test_a_spec_that_ships_cannot_be_changed_but_copied(client, store):
    fields = fields_of_spec(shipped_specs()["podcast"])
    refused = client.post("/specs/podcast/keep", data=fields, headers=JSON)
    assert "copy it" in refused.json["error"]["message"]
    copied = client.post("/specs/podcast/copy", data={**fields, "loudness.target": "−17"}, headers=JSON).json
    spec = known_spec(copied["slug"]).spec
    assert (spec.loudness.target, spec.spec.source, spec.limits) == (
        -17.0,
        "house rule",
        shipped_specs()["podcast"].limits,
    )
    assert client.post("/specs/podcast/copy", data=fields, headers=JSON).json["slug"] != copied["slug"]


def test_others_are_matched_to_one_source_which_is_written_as_it_is(client, job, work_off):
    for name, level in (("Approved.wav", -20), ("Next.wav", -35)):
        upload(client, job, name, wav(signals.noise(4, level)))
    work_off()
    approved, following = sources_of(job.id)
    client.post(f"/sources/{approved.id}/match", data={"measure": "rms"}, headers=JSON)
    place = destinations_of(job.id)[-1]
    assert spec_of(place.spec).loudness.target == pytest.approx(-20.0, abs=0.1)
    parts = client.get(f"/jobs/{job.id}/parts").text
    assert parts.count('data-state="reference"') == 1
    queued = client.post(f"/jobs/{job.id}/render", data={"destination": place.id}, headers=JSON).json["queued"]
    assert queued == 2
    work_off()
    made = {each.source_id: each for each in Deliverable.select().where(Deliverable.destination == place.id)}
    assert made[approved.id].plan["action"] == "as_is"
    assert made[following.id].measured["rms_dbfs"] == pytest.approx(-20.0, abs=0.15)
    assert client.get(f"/jobs/{job.id}/package.zip").data.count(b"Approved_like-approved") > 0


def test_limiting_may_be_allowed_for_what_is_matched(client, job, work_off):
    upload(client, job, "Approved.wav", wav(signals.noise(4, -12)))
    work_off()
    (approved,) = sources_of(job.id)
    client.post(f"/sources/{approved.id}/match", data={"measure": "integrated", "limiter": "1"}, headers=JSON)
    assert spec_of(destinations_of(job.id)[-1].spec).method.allow == "limiter"


def test_export_and_import_are_the_same_toml(client, own):
    toml = client.get("/specs/client.toml").data
    assert toml.decode() == OWN
    answer = client.post("/specs/import", query_string={"name": "client.toml"}, data=toml, headers=JSON)
    assert answer.json["slug"] == "client-2"
    assert known_spec("client-2").toml == OWN
    assert parse_spec(OWN, "client-2") == known_spec("client-2").spec


@pytest.mark.parametrize("data", [b"[spec", b"\xff\xfe", b'[spec]\nname = "x"\nunknown = 1\n', b""])
def test_a_broken_file_is_refused_with_a_sentence(client, store, data):
    answer = client.post("/specs/import", query_string={"name": "x.toml"}, data=data, headers=JSON)
    assert answer.status_code == 422
    assert answer.json["error"]["message"]


@pytest.mark.parametrize(
    ("key", "text", "value"),
    [
        ("loudness.target", "−21,7", -21.7),
        ("loudness.target", "-21.7", -21.7),
        ("formats.0.sample_rate", "48k", 48_000),
        ("formats.0.sample_rate", "44.1k", 44_100),
        ("formats.0.sample_rate", "44,1K", 44_100),
    ],
)
def test_numbers_are_understood_as_people_write_them(own, key, text, value):
    spec = spec_of_fields({**fields_of_spec(own.spec), key: text}, "client")
    found = spec.loudness.target if key.startswith("loudness") else spec.formats[0].sample_rate
    assert found == value


def test_the_steps_of_a_spec_are_shown_kept_and_typed(client, store):
    """A spec that wants half a second of silence keeps it when another of its fields is changed."""
    steps = '[[steps]]\ndo = "silence"\nhead_s = 0.5\n'
    keep_version("lead-in", f'[spec]\nname = "Lead-in"\n[[formats]]\ncontainer = "wav"\n{steps}')
    page = client.get("/specs/lead-in").text
    assert "Of every file first: Put 0.5 s of silence in front." in page
    fields = {"spec.name": "Lead-in", "formats.0.container": "wav", "steps": steps.replace("0.5", "0.75")}
    kept = client.post("/specs/lead-in/keep", data=fields, headers={"Accept": "application/json"})
    assert kept.status_code == 200, kept.text
    assert known_spec("lead-in").spec.steps[0].head_s == 0.75
    for wrong, words in (
        (steps.replace("silence", "sweeten"), "step 1: no such step"),
        ("[spec]\n", "only [[steps]]"),
    ):
        answer = client.post(
            "/specs/lead-in/keep", data={**fields, "steps": wrong}, headers={"Accept": "application/json"}
        )
        assert answer.status_code == 422
        assert words in answer.json["error"]["message"]


def test_a_fold_down_for_matrixed_playback_is_chosen_and_stays(client, store):
    keep_version("hall", '[spec]\nname = "Hall"\n[channels]\nmatrixed = true\n[[formats]]\ncontainer = "wav"\n')
    fields = fields_of_spec(known_spec("hall").spec)
    assert fields["channels.matrixed"] == "true"
    assert spec_of_fields(fields, "hall").channels.matrixed is True
    assert '<option value="true" selected>' in client.get("/specs/hall").text
    with pytest.raises(SpecError, match=r"channels\.matrixed"):
        spec_of_fields({**fields, "channels.matrixed": "perhaps"}, "hall")
