"""MP3 changed in its frames: what a decoder gives is the input times 2^(n/4), all else stays, undo gives the bytes
that came in. Frames are read here by a reader of the tests' own, bit by bit (ISO/IEC 11172-3, 2.4.1; 13818-3, 2.4.1).
"""

import ctypes
import math

import av
import numpy as np
import pytest
from mutagen.id3 import APIC, ID3, TIT2

from nicelevel.core.channels import layout_from_count
from nicelevel.core.errors import (
    CannotMeetError,
    DamagedError,
    NotAudioError,
    OutputExistsError,
    SpecError,
    UnsupportedError,
)
from nicelevel.core.files import open_sink, take_in
from nicelevel.core.measure import measure
from nicelevel.core.measure.gating import gating_blocks, integrated_lufs
from nicelevel.core.measure.hop_energies import HopEnergies
from nicelevel.core.mp3 import STEP_DB, Wish, regain
from nicelevel.core.mp3.id3 import tag_bytes
from nicelevel.core.process import plans_of_file, process, workshop_for
from nicelevel.core.specs import parse_spec
from nicelevel.core.steps import recipe_from_json
from nicelevel.core.values import OutputFormat, Shape
from tests import signals

KINDS = {
    "constant, joint": (48_000, 2, 128.0, "constant"),
    "variable, joint": (44_100, 2, 150.0, "variable"),
    "mono": (44_100, 1, 64.0, "constant"),
    "MPEG-2": (22_050, 2, 64.0, "constant"),
    "MPEG-2, mono": (16_000, 1, 32.0, "variable"),
    "MPEG-2.5": (8_000, 1, 16.0, "constant"),
}


def _encoded(path, rate, channels, kbps, mode, seconds=3.0, level=1.0):
    """With silence in the middle, so that some granules hold nothing."""
    sound = level * signals.programme(seconds, rate=rate, channels=channels, seed=3)
    sound[len(sound) // 3 : len(sound) // 2] = 0.0
    sink = open_sink(
        path, OutputFormat("mp3", "mp3", rate, layout_from_count(channels), "none", kbps, mode), len(sound)
    )
    sink.write(sound.astype(np.float32))
    sink.close()
    return path


def _with_checksums(path, rate=44_100):
    """The same by LAME's own error protection (lame.h), which our writer never asks for."""
    lame = ctypes.CDLL("libmp3lame.so.0")
    lame.lame_init.restype = ctypes.c_void_p
    encoder = ctypes.c_void_p(lame.lame_init())
    for name, value in (
        ("num_channels", 2),
        ("in_samplerate", rate),
        ("error_protection", 1),
        ("brate", 128),
        ("bWriteVbrTag", 0),
    ):
        getattr(lame, f"lame_set_{name}")(encoder, value)
    lame.lame_init_params(encoder)
    sound = (0.2 * signals.programme(2, rate=rate, seed=4)).astype(np.float32)
    room = ctypes.create_string_buffer(1 << 20)
    floats = ctypes.POINTER(ctypes.c_float)
    sides = [np.ascontiguousarray(side).ctypes.data_as(floats) for side in sound.T]
    count = lame.lame_encode_buffer_ieee_float(encoder, *sides, len(sound), room, len(room))
    data = room.raw[:count]
    data += room.raw[: lame.lame_encode_flush(encoder, room, len(room))]
    lame.lame_close(encoder)
    path.write_bytes(data)
    return path


def _checksum(covered):
    """ISO/IEC 11172-3, 2.4.3.1: x16 + x15 + x2 + 1, from all ones; here by long division of the whole."""
    bits = int.from_bytes(covered, "big") << 16 ^ 0xFFFF << 8 * len(covered)
    for at in range(8 * len(covered) + 15, 15, -1):
        if bits >> at & 1:
            bits ^= 0x18005 << at - 16
    return bits


@pytest.fixture(params=KINDS)
def mp3(request, tmp_path):
    return _encoded(tmp_path / "in.mp3", *KINDS[request.param])


def _decoded(path):
    """By FFmpeg's decoder in floating point."""
    with av.open(str(path)) as file:
        return np.concatenate([frame.to_ndarray() for frame in file.decode(audio=0)], axis=1)


KBPS = (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320), (
    0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160)  # fmt: skip
RATES = {3: (44_100, 48_000, 32_000), 2: (22_050, 24_000, 16_000), 0: (11_025, 12_000, 8_000)}


def _frames(data, at=0):
    """Place and bytes of every frame, told by its head."""
    while at + 4 <= len(data) and data[at] == 0xFF and data[at + 1] >= 0xE0:
        version = data[at + 1] >> 3 & 3
        kbps, rate = KBPS[version != 3][data[at + 2] >> 4], RATES[version][data[at + 2] >> 2 & 3]
        size = (144_000 if version == 3 else 72_000) * kbps // rate + (data[at + 2] >> 1 & 1)
        yield at, data[at : at + size]
        at += size


def _gains(frame):
    """The gain field and the length of what each granule holds; places of the fields in bits."""
    bits = "".join(f"{byte:08b}" for byte in frame)
    is_first, is_mono, has_sum = frame[1] >> 3 & 3 == 3, frame[3] >> 6 == 3, not frame[1] & 1
    at = 32 + 16 * has_sum + ((18 if is_mono else 20) if is_first else (9 if is_mono else 10))
    for _ in range((1 if is_mono else 2) * (2 if is_first else 1)):
        yield int(bits[at : at + 12], 2), int(bits[at + 21 : at + 29], 2), at + 21
        at += 59 if is_first else 63


def _masked(data):
    """All bytes with the gain fields set to nothing."""
    made = bytearray(data)
    for at, frame in _frames(data):
        for _, _, bit in _gains(frame):
            for place in range(bit, bit + 8):
                made[at + place // 8] &= ~(128 >> place % 8)
    return bytes(made)


@pytest.mark.parametrize("steps", [-7, 3])
def test_what_is_decoded_is_the_input_times_a_power_of_two(mp3, tmp_path, steps):
    """ISO/IEC 11172-3, 2.4.3.4: 2^(global_gain / 4)."""
    made = regain(mp3, tmp_path / "out", Wish(gain_db=steps * STEP_DB))
    assert made.steps == steps
    before, after = _decoded(mp3), _decoded(made.path)
    assert before.shape == after.shape
    peak = np.abs(before).max()
    assert peak > 0.02
    assert np.abs(after - before * 2.0 ** (steps / 4)).max() < 2e-6 * max(1.0, 2.0 ** (steps / 4))


def test_only_gain_fields_of_granules_that_hold_anything_are_changed(mp3, tmp_path):
    made = regain(mp3, tmp_path / "out", Wish(gain_db=-3.0))
    was, now = mp3.read_bytes(), made.path.read_bytes()
    audio = now[len(now) - len(was) :]
    assert made.steps == -2
    assert _masked(was) == _masked(audio)
    changed, kept = 0, 0
    first = next(_frames(was))[1]
    has_tag = b"Xing" in first or b"Info" in first  # at the lowest rates it has no room
    assert not has_tag or audio[: len(first)] == first
    for (at, old), (_, new) in list(zip(_frames(was), _frames(audio), strict=True))[has_tag:]:
        for (length, one, _), (_, other, _) in zip(_gains(old), _gains(new), strict=True):
            assert other == (one - 2 if length else one), at
            changed, kept = changed + bool(length), kept + (not length)
    assert changed > 30
    assert kept or mp3.stat().st_size < 40_000


def test_undo_gives_the_bytes_that_came_in_after_any_number_of_changes(mp3, tmp_path):
    one = regain(mp3, tmp_path / "1", Wish(gain_db=4.5))
    two = regain(one.path, tmp_path / "2", Wish(gain_db=-9.0))
    assert two.path.stat().st_size == one.path.stat().st_size
    back = regain(two.path, tmp_path / "3", Wish(undo=True))
    assert back.path.read_bytes() == mp3.read_bytes()
    assert back.steps == -one.steps - two.steps
    level = regain(two.path, tmp_path / "4", Wish(gain_db=4.5))
    assert level.path.read_bytes() == mp3.read_bytes()  # what comes to nothing says nothing
    with pytest.raises(UnsupportedError, match="nothing to take back"):
        regain(mp3, tmp_path / "5", Wish(undo=True))


def test_checksums_are_made_again_and_wrong_ones_are_damage(tmp_path):
    path = _with_checksums(tmp_path / "in.mp3")
    assert not path.read_bytes()[1] & 1
    made = regain(path, tmp_path / "out", Wish(gain_db=6.0))
    audio = made.path.read_bytes()[-path.stat().st_size :]
    sums = [int.from_bytes(frame[4:6], "big") for _, frame in _frames(audio)]
    assert sums == [_checksum(frame[2:4] + frame[6:38]) for _, frame in _frames(audio)]
    assert len(set(sums)) > 50
    assert regain(made.path, tmp_path / "back", Wish(undo=True)).path.read_bytes() == path.read_bytes()
    broken = bytearray(path.read_bytes())
    at, _ = list(_frames(bytes(broken)))[20]
    broken[at + 9] ^= 4
    path.write_bytes(broken)
    with pytest.raises(DamagedError, match="checksum of frame"):
        regain(path, tmp_path / "no", Wish(gain_db=6.0))
    assert not (tmp_path / "no").exists() or not list((tmp_path / "no").iterdir())


def test_a_level_is_met_as_near_as_steps_go_and_told_by_decoding(tmp_path):
    path = _encoded(tmp_path / "in.mp3", *KINDS["constant, joint"])
    made = regain(path, tmp_path / "out", Wish(target_lufs=-23.0))
    assert abs(made.error_db) <= STEP_DB / 2
    assert made.after.integrated_lufs == pytest.approx(made.before.integrated_lufs + made.gain_db, abs=0.02)
    assert made.after.integrated_lufs == pytest.approx(-23.0 + made.error_db, abs=0.02)
    ceiling = made.before.true_peak_dbtp + 2.0
    held = regain(path, tmp_path / "held", Wish(gain_db=20.0, max_true_peak_dbtp=ceiling))
    assert held.steps == 1
    assert held.after.true_peak_dbtp <= ceiling


STEPS_SPEC = parse_spec(
    'spec.name = "In steps"\nloudness = { target = -20.0, tolerance = 0.76 }\n'
    'limits = { max_true_peak_dbtp = -1.0 }\nmethod = { allow = "steps" }\nformats = [{ container = "mp3" }]',
    "in-steps",
)


def test_as_the_method_of_a_spec_what_is_planned_is_what_is_proved(mp3, tmp_path):
    """Nothing is encoded: the plan tells all figures, the frames keep all but their gains, a step error is said."""
    (made,) = process(mp3, STEPS_SPEC, tmp_path / "out")
    assert made.plan.action == "gain"
    assert made.plan.gain_db == pytest.approx(round(made.plan.gain_db / STEP_DB) * STEP_DB)
    assert made.proof.verdict.meets
    assert made.proof.reading.integrated_lufs == pytest.approx(made.plan.predicted.integrated_lufs, abs=0.02)
    assert made.proof.reading.true_peak_dbtp == pytest.approx(made.plan.predicted.true_peak_dbtp, abs=0.02)
    assert "without re-encoding" in made.plan.reasons[0]
    assert "the target; a step is 1.505 dB." in made.plan.reasons[0]
    same = [_masked(b"".join(frame for _, frame in _music(_untagged(each)))) for each in (made.path, mp3)]
    assert same[0] == same[1]
    back = regain(made.path, tmp_path / "back", Wish(undo=True))
    assert back.path.read_bytes() == mp3.read_bytes()


def test_as_a_method_it_passes_no_ceiling_and_says_where_no_step_comes_near(tmp_path):
    path = _encoded(tmp_path / "in.mp3", *KINDS["constant, joint"])
    peak = measure(path).true_peak_dbtp
    limits = STEPS_SPEC.limits.model_copy(update={"max_true_peak_dbtp": peak + 2.0})
    loudness = STEPS_SPEC.loudness.model_copy(update={"target": 0.0, "tolerance": 100.0 / 5})
    with workshop_for(path, spec := STEPS_SPEC.model_copy(update={"limits": limits, "loudness": loudness})) as shop:
        (plan,) = plans_of_file(shop, spec)
    assert round(plan.gain_db / STEP_DB) == 1
    exact = STEPS_SPEC.model_copy(
        update={"loudness": loudness.model_copy(update={"target": -20.3, "tolerance": 0.0})}
    )
    with pytest.raises(CannotMeetError, match="no whole step comes nearer"):
        process(path, exact, tmp_path / "out")
    assert not (tmp_path / "out").exists()


def test_as_a_method_it_is_for_mp3_as_it_is(tmp_path):
    wave = signals.write(tmp_path / "in.wav", signals.noise(2))
    with pytest.raises(UnsupportedError, match="for MP3 alone"):
        process(wave, STEPS_SPEC, tmp_path / "out")
    path = _encoded(tmp_path / "in.mp3", *KINDS["mono"])
    with (
        pytest.raises(UnsupportedError, match="steps of its own"),
        workshop_for(path, STEPS_SPEC, recipe_from_json([{"do": "dc"}, {"do": "trim"}])) as shop,
    ):
        plans_of_file(shop, STEPS_SPEC)
    for more in ('steps = [{ do = "dc" }]\nformats = [{ container = "mp3" }]', 'formats = [{ container = "wav" }]'):
        with pytest.raises(SpecError, match=r"method\.allow: in whole steps"):
            parse_spec(f'spec.name = "x"\nmethod.allow = "steps"\n{more}', "x")


def test_more_than_a_field_holds_names_the_largest_step_and_writes_nothing(mp3, tmp_path):
    fields = [gain for _, frame in _music(mp3.read_bytes()) for held, gain, _ in _gains(frame) if held]
    most, least = 255 - max(fields), -min(fields)
    with pytest.raises(CannotMeetError, match=rf"the largest is {most} "):
        regain(mp3, tmp_path / "out", Wish(gain_db=(most + 1) * STEP_DB))
    with pytest.raises(CannotMeetError, match=rf"the largest is .{-least} "):
        regain(mp3, tmp_path / "out", Wish(gain_db=(least - 1) * STEP_DB))
    assert not (tmp_path / "out").exists() or not list((tmp_path / "out").iterdir())
    assert regain(mp3, tmp_path / "out", Wish(gain_db=most * STEP_DB)).steps == most


def _tagged(data, version, more=b"", flags=0, extended=b""):
    """A tag with a title, written by hand."""
    text = b"\0Night ferry"
    if version == 2:
        frame = b"TT2" + len(text).to_bytes(3, "big") + text
    else:
        frame = b"TIT2" + len(text).to_bytes(4, "big") + b"\0\0" + text
    body = extended + frame + more
    size = len(body)
    field = bytes((size >> 21 & 127, size >> 14 & 127, size >> 7 & 127, size & 127))
    footer = b"3DI" + bytes((version, 0, flags)) + field if flags & 0x10 else b""
    return b"ID3" + bytes((version, 0, flags)) + field + body + footer + data


@pytest.mark.parametrize(
    ("version", "more", "flags", "extended"),
    [
        (2, b"", 0, b""),
        (3, b"\0" * 300, 0, b""),
        (4, b"\0" * 5, 0, b""),
        (4, b"", 0x10, b""),
        (3, b"", 0x40, b"\0\0\0\6\0\0\0\0\0\0"),
        (3, b"", 0x80, b""),
    ],
)
def test_a_tag_keeps_all_its_bytes(tmp_path, version, more, flags, extended):
    audio = _encoded(tmp_path / "a.mp3", *KINDS["mono"]).read_bytes()
    path = tmp_path / "in.mp3"
    path.write_bytes(_tagged(audio, version, more, flags, extended) + b"TAG" + b"\0" * 125)
    made = regain(path, tmp_path / "out", Wish(gain_db=-4.5))
    now = made.path.read_bytes()
    assert now.endswith(b"TAG" + b"\0" * 125)
    assert b"Night ferry" in now
    assert np.abs(_decoded(made.path) - _decoded(path) * 2.0**-0.75).max() < 1e-6
    assert regain(made.path, tmp_path / "back", Wish(undo=True)).path.read_bytes() == path.read_bytes()


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("picture_bytes", [0, 100_000])
def test_a_length_that_is_not_stated_is_counted(tmp_path, kind, picture_bytes):
    """Without the encoder's own frame, a tag before the first or none: every sample is read, as FFmpeg decodes it."""
    path = _encoded(tmp_path / "in.mp3", *KINDS[kind])
    frames = [frame for _, frame in _music(path.read_bytes())]
    path.write_bytes(b"".join(frames))
    if picture_bytes:
        tags = ID3()
        tags.add(APIC(encoding=3, mime="image/png", type=3, desc="", data=b"\x89" * picture_bytes))
        tags.save(path)
    count = len(frames) * (1_152 if KINDS[kind][0] >= 32_000 else 576)
    with take_in(path) as audio:
        assert audio.source.frames == count
        assert sum(len(block) for block in audio.blocks(4_096)) == count
    assert measure(path).integrated_lufs == pytest.approx(_loudness_of(_decoded(path), KINDS[kind][0]), abs=0.1)


def _loudness_of(sound, rate_hz):
    layout = layout_from_count(len(sound))
    energies = HopEnergies(Shape(rate_hz, layout, sound.shape[1]))
    energies.feed(np.ascontiguousarray(sound.T))
    return integrated_lufs(gating_blocks(energies.values()))


def test_what_others_write_into_the_tag_meanwhile_stays(tmp_path):
    path = _encoded(tmp_path / "in.mp3", *KINDS["mono"])
    made = regain(path, tmp_path / "out", Wish(gain_db=-4.5))
    tags = ID3(made.path)
    tags.add(TIT2(encoding=1, text="Fog"))
    tags.save(made.path)
    back = regain(made.path, tmp_path / "back", Wish(undo=True))
    assert back.path.read_bytes().endswith(path.read_bytes())
    assert ID3(back.path)["TIT2"].text == ["Fog"]
    assert not [key for key in ID3(back.path) if "NICE_LEVEL" in key]


def test_what_is_none_of_it_is_refused_with_a_sentence(tmp_path):
    wave = signals.write(tmp_path / "a.wav", signals.noise(1))
    with pytest.raises(NotAudioError, match="not one frame"):
        regain(wave, tmp_path / "out", Wish(gain_db=-3.0))
    path = _encoded(tmp_path / "in.mp3", *KINDS["mono"])
    for wish in (Wish(), Wish(gain_db=1.0, undo=True), Wish(gain_db=math.inf), Wish(gain_db=1e6)):
        with pytest.raises(SpecError):
            regain(path, tmp_path / "out", wish)
    free = bytearray(path.read_bytes())
    for at, _ in list(_frames(bytes(free))):
        free[at + 2] &= 0x0F
    (tmp_path / "free.mp3").write_bytes(free)
    with pytest.raises(UnsupportedError, match="free"):
        regain(tmp_path / "free.mp3", tmp_path / "out", Wish(gain_db=-3.0))
    regain(path, tmp_path / "out", Wish(gain_db=-3.0))
    with pytest.raises(OutputExistsError):
        regain(path, tmp_path / "out", Wish(gain_db=-3.0))
    cut = tmp_path / "cut.mp3"
    cut.write_bytes(b"ID3\4\0\0\x7f\x7f\x7f\x7f" + path.read_bytes())
    with pytest.raises(DamagedError, match="header"):
        regain(cut, tmp_path / "out", Wish(gain_db=-3.0))


def test_junk_between_frames_and_a_cut_end_stay_where_they_are(tmp_path):
    path = _encoded(tmp_path / "a.mp3", *KINDS["constant, joint"])
    data = path.read_bytes()
    places = [at for at, _ in _frames(data)]
    junk = b"\xff\xfb\x00junk" * 9
    (tmp_path / "in.mp3").write_bytes(data[: places[30]] + junk + data[places[30] : places[60] + 20])
    made = regain(tmp_path / "in.mp3", tmp_path / "out", Wish(gain_db=-3.0))
    now = made.path.read_bytes()
    assert junk in now
    assert regain(made.path, tmp_path / "b", Wish(undo=True)).path.read_bytes() == (tmp_path / "in.mp3").read_bytes()
    came = (tmp_path / "in.mp3").read_bytes()
    one, other = (_gains_of(each[: places[30]]) for each in (came, now[len(now) - len(came) :]))
    assert sum(old != new for old, new in zip(one, other, strict=True)) > 60


def _untagged(path):
    """Its bytes behind the tag that says what was changed."""
    data = path.read_bytes()
    return data[tag_bytes(data) :]


def _gains_of(data):
    return [gain for _, frame in _frames(data) for _, gain, _ in _gains(frame)]


def _music(data):
    """The frames behind what the encoder says of itself."""
    return [(at, frame) for at, frame in _frames(data) if at or not (b"Xing" in frame or b"Info" in frame)]
