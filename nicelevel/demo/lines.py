"""The demo's lines: a morning and an afternoon of bulletins that came by themselves, taken through for real."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import soundfile

from nicelevel.config import Config
from nicelevel.core.arrivals import LineSettings
from nicelevel.desk.lines import DEMO, kept_of
from nicelevel.store.arrivals import add_arrival, keep_files
from nicelevel.store.database import database
from nicelevel.store.lines import add_line, lines
from nicelevel.store.models import Line
from nicelevel.work.arriving import enqueue_arrival

TIDE_HOURS, WEATHER_COUNT = 12, 10
DEMO_PRIORITY = -10
"""After everything that somebody waits for."""


@dataclass(frozen=True)
class _Sent:
    """What one supplier sent: how long ago, in seconds; at which gain; how late; how much of it is sound."""

    ago_s: float
    gain_db: float
    sounding: float = 1.0
    late_s: float = 2.0


@dataclass(frozen=True)
class _DemoLine:
    file: str
    settings: dict[str, object]
    sent_at: str


_LINES = (
    _DemoLine(
        "tide_bulletin.wav",
        {
            "name": "Tide bulletin",
            "spec": "podcast",
            "recipe": "news-from-outside",
            "under": "bulletin",
            "expected": "0 * * * *",
            "shortest_s": 4.0,
        },
        "tide",
    ),
    _DemoLine(
        "talk_at_the_lamp.wav",
        {
            "name": "Ferry desk, remote voice",
            "spec": "european-broadcast",
            "recipe": "even-out-speech",
            "under": "ferry/{date}_{hour}",
        },
        "ferry",
    ),
    _DemoLine(
        "guide_lamp.wav",
        {
            "name": "Weather, short",
            "spec": "short-broadcast-item",
            "recipe": "clean-head",
            "under": "weather",
            "expected": "25,55 * * * *",
        },
        "weather",
    ),
    _DemoLine("lamp_room_theme.wav", {"name": "Mixes from the studio"}, "studio"),
)


def make_demo_lines(config: Config, files: Path) -> None:
    """Draw the lines where there is none, with what came through them today. files: the demo's own, by name."""
    if lines():
        return
    now = datetime.now(UTC)
    for demo in _LINES:
        folder = config.data_folder / "demo-lines" / demo.sent_at
        publish = folder.with_name("on-air") / demo.sent_at if demo.settings.get("spec") else None
        folder.mkdir(parents=True, exist_ok=True)
        told = {"folder": str(folder), "when_nothing": "show", "publish": str(publish or ""), **demo.settings}
        with database.atomic():
            line = add_line(LineSettings.model_validate(told))
            for sent in _sent(demo.sent_at, now):
                _arrive(line, demo, sent, config, files, now)


def _sent(to: str, now: datetime) -> Iterator[_Sent]:
    """Of today, the earliest first."""
    midnight = now.astimezone().replace(hour=0, minute=0, second=0, microsecond=0)
    since_s = (now.astimezone() - midnight).total_seconds()
    if to == "tide":
        hours = range(max(0, int(since_s // 3_600) - TIDE_HOURS + 1), int(since_s // 3_600) + 1)
        for hour in hours:
            is_broken, is_late = hour == hours[-1], hour == hours[0] + 4
            yield _Sent(
                since_s - hour * 3_600, -4.0 + hour % 3, 0.15 if is_broken else 1.0, 540.0 if is_late else 4.0
            )
    elif to == "weather":
        halves = [each for each in range(48) if (each * 30 + 25) * 60 <= since_s][-WEATHER_COUNT:]
        for half in halves:
            yield _Sent(since_s - (half * 30 + 25) * 60, float(half % 2), late_s=3.0)
    elif to == "ferry":
        for ago_s, gain_db in ((26_000.0, -3.0), (14_000.0, 0.0), (3_900.0, -6.0)):
            yield _Sent(ago_s, gain_db)
    else:
        for ago_s, gain_db in ((11_000.0, 0.0), (7_300.0, -1.0)):
            yield _Sent(ago_s, gain_db)


def _arrive(line: Line, demo: _DemoLine, sent: _Sent, config: Config, files: Path, now: datetime) -> None:
    arrived = now - timedelta(seconds=sent.ago_s - sent.late_s)
    if arrived.astimezone().date() != now.astimezone().date() or arrived > now:
        return
    name = f"{demo.sent_at}_{arrived.astimezone():%H%M}.wav"
    expected = now - timedelta(seconds=sent.ago_s) if demo.settings.get("expected") else None
    at_s = arrived.timestamp()
    told = [[at_s - 5.0, "", "growing"], [at_s, "", "whole"]]
    arrival = add_arrival(
        line,
        name,
        f"{DEMO}{at_s:.0f}",
        arrived,
        told=told,
        expected_at=expected and expected.replace(second=0, microsecond=0),
        is_late=sent.late_s > 300.0,
    )
    if arrival is not None:
        kept = kept_of(arrival, config.arrivals_folder)
        place = kept.folder / "came" / "came.wav"
        place.parent.mkdir(parents=True, exist_ok=True)
        _write(files / demo.file, place, sent)
        keep_files(arrival, {"came": "came/came.wav"})
        enqueue_arrival(arrival, DEMO_PRIORITY)


def _write(path: Path, to: Path, sent: _Sent) -> None:
    samples, rate_hz = soundfile.read(path, always_2d=True)
    samples = samples * 10 ** (sent.gain_db / 20)
    # Where the line broke off nothing but its noise is left.
    samples[int(sent.sounding * len(samples)) :] *= 0.0005
    soundfile.write(to, np.clip(samples, -1.0, 1.0), rate_hz, subtype="PCM_24")
