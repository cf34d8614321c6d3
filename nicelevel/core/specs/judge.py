"""Judge a reading by a spec: one finding for every rule that the spec names, met or not.

A reading of a file and a prediction of one are judged by the same table of rules. Levels are compared at
a hundredth of a dB, the resolution in which they are stated.
"""

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from ..values import ESTIMATE_RATIO, Finding, Reading, Source, Verdict
from .format_words import format_words, source_words
from .rules import rule_of
from .spec import Format, Spec

STATED_DECIMALS = 2

DIALNORM_DB = 1.0
"""A stream states whole numbers: half of one is rounding, as much is left to the encoder (common practice)."""

MEASURES: dict[str, Callable[[Reading], float]] = {
    "integrated": lambda reading: reading.integrated_lufs,
    "dialogue": lambda reading: -math.inf if reading.dialogue_lufs is None else reading.dialogue_lufs,
    "max_short_term": lambda reading: reading.max_short_term_lufs,
    "rms": lambda reading: reading.rms_dbfs,
    "sample_peak": lambda reading: reading.sample_peak_dbfs,
    "true_peak": lambda reading: reading.true_peak_dbtp,
}


@dataclass(frozen=True)
class Limit:
    """One key of [limits]: what it bounds, from which side, whether a plain gain moves it, or a size tells it."""

    key: str
    figure: Callable[[Reading], float | None]
    upper: bool = True
    moved_by_gain: bool = False
    by_size: bool = False


LIMITS = (
    Limit("max_true_peak_dbtp", lambda reading: reading.true_peak_dbtp, moved_by_gain=True),
    Limit("max_sample_peak_dbfs", lambda reading: reading.sample_peak_dbfs, moved_by_gain=True),
    Limit("max_momentary_lufs", lambda reading: reading.max_momentary_lufs, moved_by_gain=True),
    Limit("max_short_term_lufs", lambda reading: reading.max_short_term_lufs, moved_by_gain=True),
    Limit("max_loudness_range_lu", lambda reading: reading.loudness_range_lu),
    Limit("min_duration_s", lambda reading: reading.source.duration_s, upper=False),
    Limit("max_duration_s", lambda reading: reading.source.duration_s),
    Limit("max_size_bytes", lambda reading: reading.source.size_bytes, by_size=True),
    Limit("min_bitrate_kbps", lambda reading: reading.source.mean_kbps, upper=False, by_size=True),
)


def judge(reading: Reading, spec: Spec) -> Verdict:
    """The verdict on a reading, with one finding for each rule of the spec."""
    findings = [
        *level_findings(reading, spec),
        *_plain_findings(reading, spec),
        *_dialnorm_findings(reading, spec),
        _format_finding(reading, spec),
    ]
    return Verdict(tuple(findings))


def level_findings(reading: Reading, spec: Spec) -> list[Finding]:
    """The findings that a plain gain can change: the target and the ceilings."""
    target = [_target_finding(reading, spec)] if spec.loudness else []
    return target + [
        _limit_finding(reading, limit, required) for limit, required in named_limits(spec) if limit.moved_by_gain
    ]


def named_limits(spec: Spec) -> Iterator[tuple[Limit, float]]:
    """The limits that a spec names, with what they require."""
    for limit in LIMITS:
        required = getattr(spec.limits, limit.key)
        if required is not None:
            yield limit, required


def _plain_findings(reading: Reading, spec: Spec) -> list[Finding]:
    findings = [
        _limit_finding(reading, limit, required) for limit, required in named_limits(spec) if not limit.moved_by_gain
    ]
    if spec.limits.durations_s:
        findings.append(_durations_finding(reading, spec.limits.durations_s))
    return findings


def _target_finding(reading: Reading, spec: Spec) -> Finding:
    assert spec.loudness
    measure, tolerance = spec.loudness.measure, spec.loudness.tolerance
    target = spec.loudness.target_for(reading.source.channels)
    found = MEASURES[measure](reading)
    meets = math.isfinite(found) and abs(_stated(found - target)) <= tolerance
    text = f"{measure.replace('_', ' ')} {target:.1f} ±{tolerance:g} {rule_of(measure).unit}"
    return Finding(measure, (target - tolerance, target + tolerance), found, meets, text)


def _limit_finding(reading: Reading, limit: Limit, required: float) -> Finding:
    found = limit.figure(reading)
    side = "at most" if limit.upper else "at least"
    amount = f"{required:,}" if isinstance(required, int) else f"{required:g}"
    text = f"{_words(limit.key)} {side} {amount} {rule_of(limit.key).unit}"
    return Finding(limit.key, required, found, _within(_at_best(found, limit, reading), limit, required), text)


def _at_best(found: float | None, limit: Limit, reading: Reading) -> float | None:
    """A figure that comes from an estimated size, as far on the right side of the limit as it may be."""
    is_estimate = limit.key == "max_size_bytes" or reading.source.bitrate_kbps is None
    if found is None or not limit.by_size or not reading.source.size_is_estimate or not is_estimate:
        return found
    return found * (1.0 - ESTIMATE_RATIO if limit.upper else 1.0 + ESTIMATE_RATIO)


def _within(found: float | None, limit: Limit, required: float) -> bool:
    if found is None or found == -math.inf:
        return limit.upper
    return _stated(found) <= required if limit.upper else _stated(found) >= required


def _durations_finding(reading: Reading, durations_s: tuple[float, ...]) -> Finding:
    rate_hz, frames = reading.source.sample_rate_hz, reading.source.frames
    meets = any(abs(frames - duration_s * rate_hz) <= 1.0 for duration_s in durations_s)
    choices = " or ".join(f"{duration_s:g} s" for duration_s in durations_s)
    return Finding("durations_s", durations_s, reading.source.duration_s, meets, f"length {choices}")


def _dialnorm_findings(reading: Reading, spec: Spec) -> Iterator[Finding]:
    """Of what is delivered as AC-3: the level that it states must be the one it has, or players are misled."""
    stated_db, lufs = reading.source.dialnorm_db, reading.level_to_state_lufs
    if reading.source.encoding != "ac3" or not any(each.encoding == "ac3" for each in spec.formats):
        return
    text = f"stated dialogue level within {DIALNORM_DB:g} dB of the measured loudness"
    if math.isfinite(lufs):
        span = (_stated(lufs - DIALNORM_DB), _stated(lufs + DIALNORM_DB))
        meets = stated_db is not None and abs(_stated(stated_db - lufs)) <= DIALNORM_DB
        yield Finding("dialnorm", span, stated_db, meets, text)


def _format_finding(reading: Reading, spec: Spec) -> Finding:
    found = source_words(reading.source)
    meets = any(fits_format(reading, candidate) for candidate in spec.formats)
    required = tuple(format_words(candidate) for candidate in spec.formats)
    return Finding("format", required, found, meets, "format " + " or ".join(required))


def fits_format(reading: Reading, candidate: Format) -> bool:
    """Whether a file is of a format that a spec names; "keep" accepts anything."""
    source = reading.source
    container = "wav" if source.container in ("rf64", "bw64") else source.container
    encodings = {source.encoding, f"pcm_{source.bits_declared}", "keep"}
    return (
        container == candidate.container
        and candidate.encoding in encodings
        and candidate.sample_rate in ("keep", source.sample_rate_hz)
        and (source.channels == 1 if candidate.files == "per_channel" else _has_channels(source, candidate))
    )


def _has_channels(source: Source, candidate: Format) -> bool:
    return candidate.channels in ("keep", source.layout.name)


def _stated(value: float) -> float:
    return round(value, STATED_DECIMALS)


def _words(key: str) -> str:
    name = key.split("_", 1)[1].rpartition("_")[0].replace("_", " ")
    return {"bitrate": "bit rate", "duration": "length", "size": "file size"}.get(name, name)
