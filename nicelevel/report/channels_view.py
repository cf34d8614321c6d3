"""The Channels view drawn: what comes in and goes out, what is lost by frequency, and how two channels stand to each
other over time.
"""

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from nicelevel.core.crossing import InCommon, deepest, level_change_lu, loss_db
from nicelevel.core.programmes import Programme
from nicelevel.core.units import db_from_ratio
from nicelevel.core.values import Reading
from nicelevel.core.words import change, listed

from .curve import Tick
from .words import length, level

Rows = Sequence[Sequence[float]]

LEFT_WIDTH, FIRST_X, MOST_APART = 560, 170, 58
WAVE_TOP, WAVE_BOTTOM, ALONE_Y = 60, 300, 322
FIRST_ROW_Y, ROWS_HEIGHT, MOST_ROW_APART = 400, 184, 92
LARGEST_RADIUS, DB_PER_HALVED_RADIUS = 15.0, 9.03
STRIPES = 100

LOST_LEFT, LOST_RIGHT, LOST_TOP, PX_PER_DB, HIGHEST_DB, LOWEST_DB = 50, 20, 92, 9.0, 6.0, -12.0
TIME_MIDDLE, TIME_HEIGHT = 60, 34
LETTER_PX, LABEL_LEVELS = 6.8, 3
AGAINST, SHORTEST_AGAINST = -0.2, 2

WORDS = {
    "L": "Left",
    "R": "Right",
    "C": "Centre",
    "LFE": "Low effects",
    "Ls": "Left surround",
    "Rs": "Right surround",
    "Lb": "Left back",
    "Rb": "Right back",
    "Tfl": "Top front left",
    "Tfr": "Top front right",
    "Tbl": "Top back left",
    "Tbr": "Top back right",
}


@dataclass(frozen=True)
class In:
    """A channel that comes in: where its column stands, its waveform from the top down."""

    name: str
    x: float
    wave: str
    is_lfe: bool


@dataclass(frozen=True)
class Crossing:
    """Where a channel meets one that results. share: its part; label: that in dB, empty where it is off."""

    row: int
    column: int
    x: float
    y: float
    radius: float
    share: float
    label: str


@dataclass(frozen=True)
class Out:
    """A channel that results."""

    name: str
    y: float
    crossings: tuple[Crossing, ...]


@dataclass(frozen=True)
class Lost:
    """By frequency: a line, the area of what is lost and of what is won, axes; where most is lost and in words what
    works against each other there.
    """

    width: int
    height: int
    line: str
    lost: str
    won: str
    levels: tuple[Tick, ...]
    frequencies: tuple[Tick, ...]
    zero_y: float
    dip: Tick | None


@dataclass(frozen=True)
class OverTime:
    """Correlation of two channels; spans: from where to where they work against each other."""

    width: int
    bars: str
    spans: tuple[tuple[float, float, str], ...]
    names: tuple[str, str]


@dataclass(frozen=True)
class Bracket:
    """A programme on the ribbon of channels. level: of its label, lower where it would run into the next one."""

    label: str
    layout: str
    x: float
    width: float
    numbers: tuple[tuple[int, float], ...]
    level: int


def in_names(positions: Sequence[str | None]) -> list[str]:
    """Short names of what comes in, numbers where nobody knows."""
    return [position or str(number) for number, position in enumerate(positions, 1)]


def out_names(layout: str, positions: Sequence[str | None]) -> list[str]:
    """Names of what results."""
    if layout == "mono":
        return ["One channel"]
    return [WORDS.get(each or "", each or f"Channel {number}") for number, each in enumerate(positions, 1)]


def draw_ins(found: InCommon) -> list[In]:
    """Each channel's level over time, from the top down, all on one scale."""
    levels = np.sqrt(np.maximum(np.einsum("tii->ti", found.over_time), 0.0))
    count = min(STRIPES, len(levels))
    edges = np.arange(count) * len(levels) // max(1, count)
    stripes = np.maximum.reduceat(levels, edges, axis=0) if count else np.zeros((0, found.shape.channels))
    most, apart = max(float(stripes.max(initial=0.0)), 1e-9), _apart(found.shape.channels)
    step = (WAVE_BOTTOM - WAVE_TOP) / max(1, count)
    names, drawn = in_names(found.shape.layout.positions), []
    for channel, name in enumerate(names):
        x = FIRST_X + channel * apart
        half = 0.38 * apart * np.sqrt(stripes[:, channel] / most)
        wave = "".join(f"M{x - w:.1f} {WAVE_TOP + at * step:.1f}H{x + w:.1f}" for at, w in enumerate(half) if w > 0.2)
        drawn.append(In(name, x, wave, found.shape.layout.positions[channel] == "LFE"))
    return drawn


def _apart(channels: int) -> float:
    return min(MOST_APART, (LEFT_WIDTH - FIRST_X - 30) / max(1, channels - 1))


def draw_outs(rows: Rows, names: Sequence[str]) -> list[Out]:
    """Discs where a channel goes into another one, as large as its share is."""
    apart_x, apart_y = _apart(len(rows[0])), min(MOST_ROW_APART, ROWS_HEIGHT / max(1, len(rows) - 1))
    scale = min(1.0, apart_x / MOST_APART, apart_y / 46.0)
    outs = []
    for number, (row, name) in enumerate(zip(rows, names, strict=True)):
        y = FIRST_ROW_Y + number * apart_y
        crossings = (
            Crossing(number, at, FIRST_X + at * apart_x, y, scale * _radius(share), share, _db_label(share))
            for at, share in enumerate(row)
        )
        outs.append(Out(name, y, tuple(crossings)))
    return outs


def _radius(share: float) -> float:
    """Half as large 9 dB further down; never so small that it is taken for nothing."""
    if share == 0.0:
        return 3.0
    halvings = -db_from_ratio(abs(share)) / DB_PER_HALVED_RADIUS
    return float(min(20.0, max(5.0, LARGEST_RADIUS / 2.0**halvings)))


def _db_label(share: float) -> str:
    if share == 0.0:
        return ""
    rounded = round(db_from_ratio(abs(share)), 1)
    return "0" if abs(rounded) < 0.05 else change(rounded).removesuffix(".0").lstrip("+")


def draw_lost(found: InCommon, rows: Rows, width: int) -> Lost:
    """The sum against its shares as if they had nothing in common: under the line they cancel each other."""
    losses = np.clip(loss_db(found, rows), LOWEST_DB, HIGHEST_DB)
    x = _frequency_scale(found, width)
    places = [x(hz) for hz in found.bands_hz]
    levels = tuple(Tick(_y(db), change(db).removesuffix(".0").replace("+", "") or "0") for db in range(6, -13, -3))
    shown = [hz for hz in (50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000) if hz < found.bands_hz[-1]]
    frequencies = tuple(Tick(x(hz), f"{hz // 1000}k" if hz >= 1000 else str(hz)) for hz in shown)
    dip = deepest(found, rows)
    mark = None
    if dip:
        names = in_names(found.shape.layout.positions)
        between = f": {listed([names[number] for number in dip.pair])} against each other" if dip.pair else ""
        mark = Tick(x(dip.hz), f"{change(max(dip.db, -60.0))} dB about {_hz(dip.hz)}{between}")
    height = int(_y(LOWEST_DB)) + 28
    line = f"M{_points(places, losses)}"
    lost, won = _area(places, np.minimum(losses, 0.0)), _area(places, np.maximum(losses, 0.0))
    return Lost(width, height, line, lost, won, levels, frequencies, _y(0.0), mark)


def _points(places: Sequence[float], levels_db: Iterable[float]) -> str:
    return "L".join(f"{x:.1f} {_y(db):.1f}" for x, db in zip(places, levels_db, strict=True))


def _area(places: Sequence[float], levels_db: Iterable[float]) -> str:
    """Between a line and 0 dB."""
    return f"M{places[0]:.1f} {_y(0):.1f}L{_points(places, levels_db)}L{places[-1]:.1f} {_y(0):.1f}Z"


def _y(db: float) -> float:
    return LOST_TOP - PX_PER_DB * db


def _frequency_scale(found: InCommon, width: int) -> Callable[[float], float]:
    lowest, highest = math.log(found.bands_hz[0]), math.log(found.bands_hz[-1])
    room = width - LOST_LEFT - LOST_RIGHT
    return lambda hz: LOST_LEFT + room * (math.log(hz) - lowest) / max(1e-9, highest - lowest)


def _hz(hz: float) -> str:
    return f"{hz / 1000:.1f} kHz" if hz >= 1000 else f"{round(hz, -1):.0f} Hz"


def draw_over_time(found: InCommon, pair: tuple[int, int], width: int) -> OverTime:
    """How alike two channels are: up together, down against each other; nothing where one is silent."""
    one, other = pair
    products = found.over_time
    energies = products[:, one, one] * products[:, other, other]
    alike = np.where(energies > 1e-24, products[:, one, other] / np.sqrt(np.maximum(energies, 1e-30)), 0.0)
    room = width - LOST_LEFT - LOST_RIGHT
    step = room / max(1, len(alike))
    bars = "".join(
        f"M{LOST_LEFT + (at + 0.5) * step:.1f} {TIME_MIDDLE}v{-TIME_HEIGHT * value:.1f}"
        for at, value in enumerate(alike)
        if value
    )
    seconds = found.shape.frames / found.shape.rate_hz
    spans = tuple(
        (LOST_LEFT + first * step, (last - first) * step, _span_words(first, last, len(alike), seconds))
        for first, last in _against(alike.tolist())
    )
    names = in_names(found.shape.layout.positions)
    return OverTime(width, bars, spans, (names[one], names[other]))


def _against(alike: Sequence[float]) -> Iterator[tuple[int, int]]:
    """Runs of stretches in which they are against each other."""
    begun = None
    for at, value in enumerate([*alike, 1.0]):
        if value < AGAINST:
            begun = at if begun is None else begun
        elif begun is not None:
            if at - begun >= min(SHORTEST_AGAINST, len(alike)):
                yield begun, at
            begun = None


def _span_words(first: int, last: int, count: int, seconds: float) -> str:
    return f"against each other, {length(seconds * first / count)} – {length(seconds * last / count)}"


def sentences_of(found: InCommon, rows: Rows, weights: Sequence[float], law: str = "") -> list[str]:
    """What a person should know of it before it is decided. law: what is said of a usual way."""
    said = [law] if law else []
    changed_lu = level_change_lu(found, rows, weights)
    if changed_lu is None:
        said.append("Nothing is left of it, or nothing sounds.")
    elif abs(changed_lu) < 0.05:
        said.append("It stays as loud as it is.")
    else:
        said.append(f"It becomes about {abs(changed_lu):.1f} LU {'louder' if changed_lu > 0 else 'quieter'}.")
    names, positions = in_names(found.shape.layout.positions), found.shape.layout.positions
    unused = [name for at, name in enumerate(names) if not any(row[at] for row in rows)]
    low = [name for name, position in zip(names, positions, strict=True) if position == "LFE" and name in unused]
    others = [name for name in unused if name not in low]
    if low:
        said.append("Low effects are left out.")
    if others:
        said.append(f"{listed(others)} {'are' if len(others) > 1 else 'is'} left out.")
    return said


def is_sum(rows: Rows) -> bool:
    """Whether anything is added to anything."""
    return any(sum(share != 0.0 for share in row) > 1 for row in rows)


def prepared_words(reading: Reading) -> str:
    """What was measured of a source with all of its steps."""
    lufs, peak = level(reading.integrated_lufs), change(reading.true_peak_dbtp)
    return f"With all its steps it has {lufs} LUFS and reaches {peak} dBTP."


def drawn_words(reading: Reading) -> str:
    """What was measured of a source with its channels as they are drawn; what passes full scale is said."""
    lufs, peak = level(reading.integrated_lufs), change(reading.true_peak_dbtp)
    said = f"So it has {lufs} LUFS and reaches {peak} dBTP"
    if reading.true_peak_dbtp <= 0.0:
        return f"{said}."
    return f"{said}: over full scale, kept in floating point and brought down by gain where it is delivered."


def ribbon_of(programmes: Sequence[Programme], count: int, width: int) -> list[Bracket]:
    """Programmes side by side, their channels as they are numbered in the file."""
    each_px = min(38.0, (width - LOST_LEFT - LOST_RIGHT - 6.0 * len(programmes)) / max(1, count))
    x = float(LOST_LEFT)
    drawn: list[Bracket] = []
    for each in programmes:
        room = len(each.channels) * each_px
        numbers = tuple((number, x + (at + 0.5) * each_px) for at, number in enumerate(each.channels))
        is_long = LETTER_PX * len(each.label) > room and each is not programmes[-1]
        level = ((drawn[-1].level if drawn else 0) + 1) % LABEL_LEVELS if is_long else 0
        drawn.append(Bracket(each.label, each.layout.name, x, room, numbers, level))
        x += room + 6.0
    return drawn


def map_text(programmes: Sequence[Programme]) -> str:
    """Programmes as they are typed in a map; those whose channels do not stand side by side cannot be."""
    return ", ".join(f"{_range(each.channels)} {each.label.replace(',', ' ')}" for each in programmes)


def _range(channels: Sequence[int]) -> str:
    return str(channels[0]) if len(channels) == 1 else f"{channels[0]}-{channels[-1]}"
