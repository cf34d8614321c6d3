"""The sources of the demo job: each a file with the level, and some with the fault, that the board should show."""

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from nicelevel.core.channels import Layout, layout_from_count, layout_of_name
from nicelevel.core.files import open_sink
from nicelevel.core.measure import Meter
from nicelevel.core.programmes import join
from nicelevel.core.render.dither import rounded
from nicelevel.core.steps.fold import Fold
from nicelevel.core.steps.fold_matrix import fold_matrix
from nicelevel.core.units import ratio_from_db
from nicelevel.core.values import OutputFormat, Source

from .sounds import (
    Generator,
    Signal,
    bells,
    brass,
    doubled,
    foghorn,
    sea,
    seconds_of,
    speech,
    spread,
    strings,
    thunder,
)

EDITION = 7
"""Raised when the sources below come out differently, so that files kept from before are made anew."""

SEED = 1887
"""The year in which the light was first lit, in this story."""

THEME_S = 34.0
FADE_S = 1.5


@dataclass(frozen=True)
class DemoSource:
    """A file of the demo: how it is called, what it is written as, who makes it, which recipe prepares it, which
    programmes lie in it side by side.
    """

    title: str
    file_name: str
    kind: str
    rate_hz: int
    bits: int
    layout: Layout
    make: Callable[[Generator, int], Signal]
    recipe: str = ""
    programmes: tuple[tuple[str, Layout], ...] = ()


STEREO, MONO, SURROUND = layout_from_count(2), layout_from_count(1), layout_of_name("5.1")
NINE = layout_from_count(9)
ALL_MIXES = (("Full mix", SURROUND), ("For two loudspeakers", STEREO), ("Horn alone", MONO))

_LOG_1 = (
    "The lamp is lit at four in the afternoon now. The oil is cold, and slow to climb the wick. "
    "From the gallery I can see the ferry turn, and then I see nothing but weather. "
    "Wind from the north west. I have tied down everything that can be tied down."
)
_LOG_2 = (
    "In the night the horn ran for eleven hours. One does not sleep, one listens between the blasts. "
    "Towards morning a ship answered, very far out, and I was glad of it. "
    "I wrote her name in the book, as well as I could hear it."
)
_LOG_3 = (
    "Third day of the storm. The sea comes over the rock at high water, and the tower speaks. "
    "I have counted the steps again, to be sure of them. One hundred and sixty two. "
    "When the wind drops, the quiet is the loudest thing of all."
)
_STAIRS = (
    "Welcome to the stairs. Please hold the rail with your left hand. After sixty steps there is a window; "
    "rest there, and look for the seals on the southern ledge. The steps are older than the tower."
)
_LAMP = (
    "You stand beside the lamp. Its lens is as tall as a grown person, and floats on a bath of quicksilver, "
    "so that a child could turn it with one finger. Once it burned oil. Today it burns nothing at all."
)
_TIDE = (
    "This is the tide bulletin for the harbour. Low water at ten forty, one point two metres. "
    "High water at sixteen fifty five, four point eight metres. The causeway is closed from fourteen thirty."
)
_TALK = (
    ("guide", 0.0, "Were you never afraid, up here, with the whole sea under you?"),
    ("keeper", -12.0, "Afraid, no. One gets used to the height. It is the quiet that one has to learn."),
    ("guide", 1.0, "And the fog? They say that it could last for a week."),
    ("keeper", -11.0, "Nine days, once. I counted the horn, so as not to count the hours."),
    ("bulletin", 8.0, "Excuse me. The tide is turning; the last boat leaves in twenty minutes."),
    ("guide", 0.0, "Then one last question. What did you do on the first clear morning?"),
    ("keeper", -12.0, "I opened all the windows, one after the other, and slept until the lamp had to be lit again."),
)
_TRAILER = "This winter, the light comes home. The Skerry Light museum. Open when the tide allows."


def _brought_to(signal: Signal, rate_hz: int, layout: Layout, lufs: float) -> Signal:
    """The signal at an integrated loudness, as a mix engineer would have left it."""
    source = Source(Path("demo"), 0, "wav", "float_64", rate_hz, layout, len(signal), None)
    meter = Meter(source)
    meter.feed(signal)
    return signal * ratio_from_db(lufs - meter.reading().integrated_lufs)


def _held(signal: Signal, peak: float) -> Signal:
    """Peaks rounded off softly under a ceiling, as a mix bus would."""
    return peak * np.tanh(signal / peak)


def _faded(signal: Signal, rate_hz: int) -> Signal:
    """The same with its last second and a half faded out."""
    return signal * np.minimum(1.0, np.arange(len(signal))[::-1] / (FADE_S * rate_hz))[:, None]


def _log(text: str, lufs: float, horns: int, storm: float) -> Callable[[Generator, int], Signal]:
    """A part of the documentary: voice in the middle, sea around it, the horn or thunder in places."""

    def make(generator: Generator, rate_hz: int) -> Signal:
        seconds = 108.0 + generator.integers(0, 20)
        voice = spread([speech(text, "keeper", rate_hz)], seconds, rate_hz, 3.0)
        mix = 0.05 * sea(seconds, rate_hz, generator) * (1 + storm) + voice[:, None]
        for number in range(horns):
            _add(mix, 0.34 * foghorn(4.0, rate_hz)[:, None], (number + 0.6) / horns * seconds, rate_hz)
        for number in range(round(4 * storm)):
            peal = 0.22 * thunder(6.0, rate_hz, generator)[:, None]
            _add(mix, peal, (number + 0.4) / (4 * storm) * seconds, rate_hz)
        return np.clip(_brought_to(_faded(mix, rate_hz), rate_hz, STEREO, lufs), -0.98, 0.98)

    return make


def _add(mix: Signal, part: Signal, at_s: float, rate_hz: int) -> None:
    start = round(at_s * rate_hz)
    mix[start : start + len(part)] += part[: len(mix) - start]


def _older_trailer(generator: Generator, rate_hz: int) -> Signal:
    """Version 1 of the trailer: softer, and a second too long."""
    return np.pad(0.6 * _trailer(generator, rate_hz), ((0, rate_hz), (0, 0)))


def _trailer(generator: Generator, rate_hz: int) -> Signal:
    seconds = 30.2
    voice = spread([speech(_TRAILER, "keeper", rate_hz)], seconds, rate_hz, 1.2)
    pad = strings([[110, 165, 220], [98, 147, 247], [87, 131, 262]], seconds, rate_hz, generator)
    hits = np.zeros(len(voice))
    for at_s in (0.3, 10.1, 20.1, 27.5):
        _add(hits[:, None], 0.7 * thunder(2.5, rate_hz, generator)[:, None], at_s, rate_hz)
    mix = 1.4 * voice[:, None] + 0.025 * pad + 0.5 * hits[:, None]
    return _held(_brought_to(_faded(mix, rate_hz), rate_hz, STEREO, -17.6), 0.95)


_CHORDS = [[146.8, 220, 293.7], [130.8, 196, 329.6], [116.5, 174.6, 293.7], [110, 164.8, 277.2]] * 2
_NOTES = [587.3, 659.3, 523.3, 587.3, 698.5, 659.3, 440, 554.4] * 3
_BASS = [73.4, 65.4, 58.3, 55.0] * 2


def _stem(kind: str) -> Callable[[Generator, int], Signal]:
    def make(generator: Generator, rate_hz: int) -> Signal:
        fade = np.minimum(1.0, seconds_of(THEME_S, rate_hz)[::-1] / 3.0)[:, None]
        if kind == "strings":
            return 0.034 * doubled(strings(_CHORDS, THEME_S, rate_hz // 2, generator)) * fade
        if kind == "bells":
            return 0.1 * bells(_NOTES, THEME_S, rate_hz, generator) * fade
        breath = 1.0 + 0.2 * np.sin(2 * np.pi * 0.23 * seconds_of(THEME_S, rate_hz))[:, None]
        return np.repeat(0.15 * brass(_BASS, THEME_S, rate_hz)[:, None] * breath, 2, axis=1) * fade

    return make


def _theme(generator: Generator, rate_hz: int) -> Signal:
    """The three stems pushed into the ceiling: a mix that left the desk clipped."""
    stems = [_stem(kind)(_generator(kind), rate_hz) for kind in ("strings", "bells", "brass")]
    mix: Signal = stems[0] + stems[1] + stems[2]
    hot = _brought_to(mix, rate_hz, STEREO, -12.4) * ratio_from_db(2.6)
    return np.clip(hot, -1.0, 1.0 - 2.0**-23)


CALL_S = 14.0


def _part_of_call(kind: str) -> Callable[[Generator, int], Signal]:
    """Two stems that add up to their mix: the horn, and the sea that it calls over."""

    def make(generator: Generator, rate_hz: int) -> Signal:
        if kind == "sea":
            return _faded(0.06 * sea(CALL_S, rate_hz, generator), rate_hz)
        horn = np.zeros((round(CALL_S * rate_hz), 2))
        for at_s in (1.0, 6.5):
            _add(horn, 0.3 * foghorn(4.0, rate_hz)[:, None], at_s, rate_hz)
        return horn

    return make


def _call(generator: Generator, rate_hz: int) -> Signal:
    parts = (_part_of_call(kind)(_generator(kind), rate_hz) for kind in ("horn", "sea"))
    mix: Signal = sum(parts, start=np.zeros((round(CALL_S * rate_hz), 2)))
    return mix


def _storm(generator: Generator, rate_hz: int) -> Signal:
    """5.1: sea all round, thunder from behind, its weight in the LFE, the horn in the centre."""
    seconds = 48.0
    around = np.concatenate([sea(seconds, rate_hz, generator, swell) for swell in (6.0, 7.5, 9.0)], axis=1)
    mix = 0.12 * around
    mix[:, 2] *= 0.3
    mix[:, 3] = 0.0
    for at_s in (6.0, 19.0, 33.0):
        peal = thunder(7.0, rate_hz, generator)
        _add(mix[:, 4:6], 0.25 * np.outer(peal, [1.0, 0.7]), at_s, rate_hz)
        _add(mix[:, 3:4], 0.3 * peal[:, None], at_s, rate_hz)
    for at_s in (2.0, 14.0, 26.0, 38.0):
        _add(mix[:, 2:3], 0.2 * foghorn(4.0, rate_hz)[:, None], at_s, rate_hz)
    return np.clip(_brought_to(_faded(mix, rate_hz), rate_hz, SURROUND, -23.2), -0.98, 0.98)


def _all_mixes(generator: Generator, rate_hz: int) -> Signal:
    """A quarter of a minute of the storm as it goes out: in 5.1, for two loudspeakers, and the horn by itself."""
    surround = _storm(generator, rate_hz)[4 * rate_hz : 20 * rate_hz]
    fold = fold_matrix(SURROUND, STEREO, Fold(layout="stereo"))
    horn = np.zeros((len(surround), 1))
    _add(horn, 0.2 * foghorn(4.0, rate_hz)[:, None], 10.0, rate_hz)
    return np.concatenate([_faded(each, rate_hz) for each in (surround, 0.5 * surround @ fold.T, horn)], axis=1)


def _gallery(side: int) -> Callable[[Generator, int], Signal]:
    """One side of a pair of microphones on the gallery, which a recorder wrote as two files."""

    def make(_: Generator, rate_hz: int) -> Signal:
        both = _faded(sea(24.0, rate_hz, _generator("gallery"), 5.0), rate_hz)
        return _brought_to(both, rate_hz, STEREO, -29.0)[:, side : side + 1]

    return make


def _stairs(generator: Generator, rate_hz: int) -> Signal:
    """Delivered one-sided: a microphone recorded on the left track alone."""
    voice = spread([speech(_STAIRS, "guide", rate_hz)], 40.0, rate_hz, 2.0)
    voice = _faded((voice + 3e-4 * generator.standard_normal(len(voice)))[:, None], rate_hz)[:, 0]
    both = np.stack((voice, np.zeros_like(voice)), axis=1)
    return _brought_to(both, rate_hz, STEREO, -27.2)


def _lamp(generator: Generator, rate_hz: int) -> Signal:
    """Mono, with five seconds of dead air at its end."""
    voice = speech(_LAMP, "guide", rate_hz)
    voice = voice + 3e-4 * generator.standard_normal(len(voice))
    return _brought_to(np.concatenate((voice, np.zeros(5 * rate_hz)))[:, None], rate_hz, MONO, -22.8)


def _tide(generator: Generator, rate_hz: int) -> Signal:
    """Too quiet, as it comes off the harbour's telephone line every hour."""
    voice = speech(_TIDE, "bulletin", rate_hz)
    hiss = 1.5e-4 * generator.standard_normal(len(voice))
    return _brought_to((voice + hiss)[:, None], rate_hz, MONO, -33.0)


def talk_parts(rate_hz: int) -> list[tuple[Signal, Signal]]:
    """What each of the three says in turn, and the pause after it."""
    return [
        (speech(text, voice, rate_hz) * ratio_from_db(level_db), np.zeros(rate_hz * (5 + number % 3) // 4))
        for number, (voice, level_db, text) in enumerate(_TALK)
    ]


def _talk(generator: Generator, rate_hz: int) -> Signal:
    """A conversation at the lamp: one of them sits far from the microphone, one comes in shouting."""
    whole = np.concatenate([part for said, pause in talk_parts(rate_hz) for part in (said, pause)])
    room = 3e-4 * generator.standard_normal(len(whole))
    return _brought_to((whole + room)[:, None], rate_hz, MONO, -30.0)


def _generator(kind: str) -> Generator:
    return np.random.default_rng([SEED, *kind.encode()])


DEMO_SOURCES = (
    DemoSource("Keeper's Log, part 1", "keepers_log_1.wav", "mix", 48_000, 24, STEREO, _log(_LOG_1, -21.4, 0, 0)),
    DemoSource("Keeper's Log, part 2", "keepers_log_2.wav", "mix", 48_000, 24, STEREO, _log(_LOG_2, -20.3, 5, 0)),
    DemoSource("Keeper's Log, part 3", "keepers_log_3.wav", "mix", 48_000, 24, STEREO, _log(_LOG_3, -24.9, 0, 1)),
    DemoSource("Trailer 30 s", "trailer_30_v2.wav", "mix", 48_000, 24, STEREO, _trailer),
    DemoSource("Trailer 30 s, first mix", "trailer_30_v1.wav", "mix", 48_000, 24, STEREO, _older_trailer),
    DemoSource("Lamp room theme", "lamp_room_theme.wav", "mix", 96_000, 24, STEREO, _theme),
    DemoSource("Strings", "lamp_room_theme_strings.wav", "stem", 96_000, 24, STEREO, _stem("strings")),
    DemoSource("Bells", "lamp_room_theme_bells.wav", "stem", 96_000, 24, STEREO, _stem("bells")),
    DemoSource("Low brass", "lamp_room_theme_brass.wav", "stem", 96_000, 24, STEREO, _stem("brass")),
    DemoSource("Horn call", "horn_call.wav", "mix", 48_000, 24, STEREO, _call),
    DemoSource("Horn", "horn_call_horn.wav", "stem", 48_000, 24, STEREO, _part_of_call("horn")),
    DemoSource("Sea", "horn_call_sea.wav", "stem", 48_000, 24, STEREO, _part_of_call("sea")),
    DemoSource("Lamp room storm", "lamp_room_storm_51.wav", "mix", 48_000, 24, SURROUND, _storm),
    DemoSource("Storm, all mixes", "storm_all_mixes.wav", "mix", 48_000, 24, NINE, _all_mixes, programmes=ALL_MIXES),
    DemoSource("Gallery sea L", "gallery_sea_L.wav", "mix", 48_000, 24, MONO, _gallery(0)),
    DemoSource("Gallery sea R", "gallery_sea_R.wav", "mix", 48_000, 24, MONO, _gallery(1)),
    DemoSource("Guide: the stairs", "guide_stairs.wav", "voice", 44_100, 16, STEREO, _stairs),
    DemoSource("Guide: the lamp", "guide_lamp.wav", "voice", 44_100, 16, MONO, _lamp),
    DemoSource("Talk at the lamp", "talk_at_the_lamp.wav", "voice", 48_000, 24, MONO, _talk, "even-out-speech"),
    DemoSource("Tide bulletin", "tide_bulletin.wav", "voice", 44_100, 16, MONO, _tide, "news-from-outside"),
)


def make_source(number: int, folder: Path) -> Path:
    """Synthesise one of DEMO_SOURCES and write it as a WAVE file; the same bytes every time."""
    demo = DEMO_SOURCES[number]
    key = demo.file_name.removeprefix("lamp_room_theme_").removeprefix("horn_call_").removesuffix(".wav")
    signal = demo.make(_generator(key), demo.rate_hz)
    path = folder / demo.file_name
    if demo.programmes:
        return _side_by_side(signal, demo, path)
    part = path.with_suffix(".part")
    _write(signal, demo, demo.layout, part)
    part.rename(path)
    return path


def _write(signal: Signal, demo: DemoSource, layout: Layout, path: Path) -> None:
    output = OutputFormat("wav", f"pcm_{demo.bits}", demo.rate_hz, layout, "tpdf")
    sink = open_sink(path, output, len(signal))
    sink.write(rounded(signal, demo.bits, False, SEED, 0))
    sink.close()


def _side_by_side(signal: Signal, demo: DemoSource, path: Path) -> Path:
    """One file with programmes that it names."""
    with tempfile.TemporaryDirectory() as folder:
        parts, first = [], 0
        for label, layout in demo.programmes:
            parts.append(Path(folder) / f"{label}.wav")
            _write(signal[:, first : first + len(layout.positions)], demo, layout, parts[-1])
            first += len(layout.positions)
        return join(parts, path).path
