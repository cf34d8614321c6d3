"""Plain samples as stations and recorders really send them, against what another reader, or the writer, says."""

import os
import struct
import subprocess
import sys

import numpy as np
import pytest
import soundfile

from nicelevel.core.errors import NiceLevelError, NotFoundError, UnsupportedError
from nicelevel.core.files import take_in
from nicelevel.core.measure import measure
from tests import signals

FRAMES = np.round(0.5 * signals.programme(0.5, seed=3) * 2**15) / 2**15
DATA = (FRAMES * 2**15).astype("<i2").tobytes()


def _chunk(name, body, order="<"):
    return name + struct.pack(f"{order}I", len(body)) + body + b"\0" * (len(body) % 2)


def _format(tag=1, channels=2, rate=48_000, align=4, bits=16, more=b""):
    return _chunk(b"fmt ", struct.pack("<HHIIHH", tag, channels, rate, rate * align, align, bits) + more)


def _wave(*chunks, magic=b"RIFF", size=None):
    body = b"WAVE" + b"".join(chunks)
    return magic + struct.pack("<I", len(body) if size is None else size) + body


def _long(*chunks, magic):
    """RF64 (EBU Tech 3306) or BW64 (ITU-R BS.2088): sizes of 64 bits in `ds64`, all ones in their place."""
    sizes = _chunk(b"ds64", struct.pack("<QQQI", 0, len(DATA), len(FRAMES), 0))
    data = b"data" + b"\xff" * 4 + DATA
    return _wave(sizes, *chunks, data, magic=magic, size=0xFFFFFFFF)


def _caf(data_size, flags=0, bits=16, data=None, align=4):
    """CAF (Apple 2005): `desc`, then `data` with a count of edits before the samples."""
    description = struct.pack(">d4s5I", 48_000.0, b"lpcm", flags, align, 1, 2, bits)
    head = b"caff" + struct.pack(">HH", 1, 0) + b"desc" + struct.pack(">q", len(description)) + description
    body = b"\0\0\0\0" + (FRAMES * 2**15).astype(">i2").tobytes() if data is None else b"\0\0\0\0" + data
    return head + b"data" + struct.pack(">q", len(body) if data_size is None else data_size) + body


BEXT = _chunk(b"bext", b"\0" * 602)
AXML = _chunk(b"axml", b"<?xml version='1.0'?><ebuCoreMain/>")
CHNA = _chunk(b"chna", struct.pack("<HH", 0, 0))

SENT = {
    "RF64 with bext before its samples": (_long(BEXT, _format(), magic=b"RF64"), "rf64"),
    "RF64 with bext between": (_long(_format(), BEXT, magic=b"RF64"), "rf64"),
    "BW64 with axml": (_long(_format(), CHNA, AXML, magic=b"BW64"), "bw64"),
    "BW64 with axml of a size in the table": (
        _wave(
            _chunk(b"ds64", struct.pack("<QQQI4sQ", 0, len(DATA), 0, 1, b"axml", 36)),
            _format(),
            b"axml" + b"\xff" * 4 + b" " * 36,
            b"data" + b"\xff" * 4 + DATA,
            magic=b"BW64",
            size=0xFFFFFFFF,
        ),
        "bw64",
    ),
    "WAVE that was not closed": (_wave(_format(), b"data" + b"\0" * 4 + DATA), "wav"),
    "WAVE with chunks behind its samples": (_wave(_format(), _chunk(b"data", DATA), _chunk(b"LIST", b"INFO")), "wav"),
    "CAF that was not closed": (_caf(-1), "caf"),
    "CAF with the highest byte first": (_caf(None), "caf"),
    "CAF with the lowest byte first": (_caf(None, flags=2, data=DATA), "caf"),
}


@pytest.mark.parametrize("name", SENT)
def test_what_stations_send_is_read_to_the_bit(tmp_path, name):
    data, container = SENT[name]
    path = tmp_path / "sent"
    path.write_bytes(data)
    with take_in(path) as audio:
        assert (audio.source.container, audio.source.encoding) == (container, "pcm_16")
        assert audio.source.frames == len(FRAMES)
        assert np.array_equal(np.concatenate(list(audio.blocks(1001))), FRAMES)
        assert np.array_equal(audio.window(700, 900), FRAMES[700:900])
    assert measure(path).integrated_lufs == pytest.approx(
        measure(signals.write(tmp_path / "plain.wav", FRAMES, subtype="PCM_16")).integrated_lufs, abs=1e-9
    )


@pytest.mark.parametrize("subtype", ["PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"])
@pytest.mark.parametrize("kind", ["WAV", "WAVEX", "W64", "RF64"])
def test_words_of_the_wave_family_are_those_of_another_reader(tmp_path, kind, subtype):
    path = tmp_path / "words.wav"
    soundfile.write(path, 0.7 * signals.programme(0.3, seed=2), 44_100, subtype, format=kind)
    expected, _ = soundfile.read(path, dtype="float64", always_2d=True)
    with take_in(path) as audio:
        assert np.array_equal(np.concatenate(list(audio.blocks(777))), expected)


@pytest.mark.parametrize("endian", ["BIG", "LITTLE"])
@pytest.mark.parametrize("subtype", ["PCM_S8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"])
def test_words_of_caf_are_those_of_another_reader(tmp_path, subtype, endian):
    path = tmp_path / "words.caf"
    soundfile.write(path, 0.7 * signals.programme(0.3, seed=2), 44_100, subtype, endian=endian)
    expected, _ = soundfile.read(path, dtype="float64", always_2d=True)
    with take_in(path) as audio:
        assert np.array_equal(np.concatenate(list(audio.blocks(777))), expected)
        assert np.array_equal(audio.window(100, 203), expected[100:203])
    reading, other = measure(path), measure(signals.write(tmp_path / "same.wav", expected, 44_100, "DOUBLE"))
    assert reading.true_peak_dbtp == pytest.approx(other.true_peak_dbtp, abs=1e-6)
    assert reading.bits_used == (None if subtype in ("FLOAT", "DOUBLE") else int(subtype[-2:].lstrip("S_")))


_GUID = b"\x01\x00" + bytes.fromhex("000000001000800000aa00389b71")
_MORE = struct.pack("<HHI", 22, 16, 3)
NEVER = {
    "tag 0x1234": _format(tag=0x1234),
    "type 5a5a": _format(tag=0xFFFE, more=_MORE + b"\x5a" * 16),
    "24 bits of floating point": _format(tag=3, align=6, bits=24),
    "16 bits in frames of 3 bytes": _format(align=3),
    "16 bits in frames of 2 bytes": _format(align=2),
    "48 bits in frames of 12 bytes": _format(align=12, bits=48),
}


@pytest.mark.parametrize("kind", NEVER)
def test_a_kind_of_samples_that_nobody_reads_is_unsupported_not_damaged(tmp_path, kind):
    path = tmp_path / "odd.wav"
    path.write_bytes(_wave(NEVER[kind], _chunk(b"data", DATA)))
    with pytest.raises(UnsupportedError, match=kind):
        take_in(path)


def test_an_extensible_header_with_a_known_type_is_read(tmp_path):
    path = tmp_path / "known.wav"
    path.write_bytes(_wave(_format(tag=0xFFFE, more=_MORE + _GUID), _chunk(b"data", DATA)))
    with take_in(path) as audio:
        assert audio.source.layout.name == "stereo"
        assert np.array_equal(audio.window(0, 100), FRAMES[:100])


def test_names_that_no_file_can_have_are_not_found(tmp_path):
    loop = tmp_path / "loop.wav"
    loop.symlink_to(tmp_path / "pool.wav")
    (tmp_path / "pool.wav").symlink_to(loop)
    for name in (loop, tmp_path / ("x" * 300), "with\0nothing.wav"):
        with pytest.raises(NotFoundError) as caught:
            take_in(name)
        assert len(caught.value.message) < 200


@pytest.mark.parametrize(("kind", "options"), [("wav", {}), ("flac", {}), ("ogg", {}), ("m4a", None)])
def test_a_name_that_is_no_text_is_measured_and_rendered(tmp_path, kind, options):
    """Names on a disk are bytes: an old share brings some that are not UTF-8."""
    plain = tmp_path / f"plain.{kind}"
    if options is None:
        command = ["ffmpeg", "-v", "error", "-i", signals.write(tmp_path / "a.wav", FRAMES), "-c:a", "aac", plain]
        subprocess.run(command, check=True)
    else:
        soundfile.write(plain, FRAMES, 48_000)
    odd = os.fsencode(tmp_path) + b"/na\xefve." + kind.encode()
    os.rename(plain, odd)
    spec = tmp_path / "s.toml"
    spec.write_text('[spec]\nname = "x"\n[[formats]]\ncontainer = "wav"\nencoding = "pcm_16"\n')
    command = [sys.executable, "-m", "nicelevel.cli.main", "render", odd, "--spec", spec, "--out", tmp_path / "out"]
    done = subprocess.run([*command, "--json"], capture_output=True, check=False)
    assert done.returncode == 0, done.stderr
    assert len(os.listdir(os.fsencode(tmp_path / "out"))) == 1
    assert b'"verdict": "meets"' in done.stdout


def test_a_file_that_ends_early_says_so_whatever_its_header_promises(tmp_path):
    for name, data in (("a.wav", _wave(_format(), _chunk(b"data", DATA))[:-2000]), ("b.caf", _caf(None)[:-2000])):
        path = tmp_path / name
        path.write_bytes(data)
        with pytest.raises(NiceLevelError) as caught:
            take_in(path)
        assert caught.value.code == "truncated"
