"""Why a plan is what it is, in sentences for an engineer."""

import math

from ..codecs import MOST_CHANNELS, coded_rate_hz, highest_kbps
from ..mp3.frames import STEP_DB
from ..specs.judge import LIMITS, MEASURES
from ..specs.spec import MEASURE_UNITS, Spec
from ..values import Finding, Plan, Reading, Source
from ..words import amount, change, figure
from .formats import word_length_falls
from .gain import GainRange

_CEILINGS = {
    "max_true_peak_dbtp": ("its true peak", "dBTP"),
    "max_sample_peak_dbfs": ("its sample peak", "dBFS"),
    "max_momentary_lufs": ("its loudest 400 ms", "LUFS"),
    "max_short_term_lufs": ("its loudest 3 s", "LUFS"),
}
_SHORT_BITS = 16

_FIGURES = {limit.key: limit.figure for limit in LIMITS}


def reasons_for(
    source: Source, reading: Reading, spec: Spec, plan: Plan, allowed: GainRange, needed_db: float | None
) -> tuple[str, ...]:
    """The sentences of a plan, the decisive one first.

    reading: of the prepared signal; allowed: gains that meet the spec; needed_db: the limiting that would reach
    the target where the spec allows less.
    """
    return (
        *_level_sentences(reading, spec, plan, allowed, needed_db),
        *misses(plan),
        *plan.chain.words,
        *_mono_target(reading, spec),
        *_word_length(reading, plan),
    )


def _level_sentences(
    reading: Reading, spec: Spec, plan: Plan, allowed: GainRange, needed_db: float | None
) -> list[str]:
    if spec.loudness and math.isinf(MEASURES[spec.loudness.measure](reading)):
        if spec.loudness.measure == "dialogue":
            return ["Nobody speaks in it, so there is no level of speech to bring to the target."]
        return ["Nothing here is loud enough to be measured, so there is no level to bring to the target."]
    if plan.action == "as_is":
        return [_as_it_is(reading, spec)]
    if plan.output.in_steps:
        return [_by_steps(reading, spec, plan)]
    if plan.action == "gain":
        return [_by_gain(reading, spec, plan, allowed.ceiling)]
    if plan.limiting and spec.loudness:
        short = _short_of_limiting(spec, plan, needed_db)
        return [_by_limiting(reading, spec, plan), *short, _without_limiting(reading, spec, allowed)]
    return _short(reading, spec, plan, allowed.ceiling) if spec.loudness else []


def _by_limiting(reading: Reading, spec: Spec, plan: Plan) -> str:
    """What a limiter does and what it costs."""
    assert plan.limiting
    limiting = plan.limiting
    places = len(limiting.places)
    where = f", in {places} place{'s' if places != 1 else ''}" if places else ""
    return (
        f"Gain of {change(plan.gain_db)} dB and a limiter bring {_subject(spec)} from "
        f"{_level(reading, spec, unit=False)} to {_level(plan.predicted, spec)}. "
        f"The limiter takes up to {figure(limiting.depth_db)} dB and works "
        f"{_percent(limiting.share_ratio)} of the time{where}."
    )


def _subject(spec: Spec) -> str:
    """What a target is about."""
    return "what is spoken" if spec.loudness and spec.loudness.measure == "dialogue" else "the programme"


def _without_limiting(reading: Reading, spec: Spec, allowed: GainRange) -> str:
    assert spec.loudness
    reached = MEASURES[spec.loudness.measure](reading) + allowed.high
    return f"Without limiting it can reach {figure(reached)} {MEASURE_UNITS[spec.loudness.measure]}."


def _percent(ratio: float) -> str:
    return "less than 0.1 %" if ratio < 0.001 else f"{100 * ratio:.1f} %"


def _short_of_limiting(spec: Spec, plan: Plan, needed_db: float | None) -> list[str]:
    """How far the deepest limiting that is allowed stays from the target, and what would do."""
    assert spec.loudness
    missing_db = spec.loudness.target_for(plan.predicted.source.channels) - MEASURES[spec.loudness.measure](
        plan.predicted
    )
    if missing_db <= spec.loudness.tolerance:
        return []
    most = f"more than {figure(plan.limiting_db)} dB of limiting is not allowed"
    deeper = f"{figure(needed_db)} dB of limiting" if needed_db else "a mix with less peak"
    return [
        f"That is {figure(missing_db)} dB short of the target, and {most}. "
        f"A target of {_level(plan.predicted, spec)}, {deeper}, or another spec would do."
    ]


def _as_it_is(reading: Reading, spec: Spec) -> str:
    if spec.loudness is None:
        return "The level stays as it was mixed: nothing is turned up, down or limited."
    return f"It lands as it is: {_level(reading, spec)} is within {_target(reading, spec)}."


def _by_steps(reading: Reading, spec: Spec, plan: Plan) -> str:
    """What whole steps come to, how far that is from the target, and that nothing else changes."""
    steps, predicted = round(plan.gain_db / STEP_DB), plan.predicted
    step = "1 step" if abs(steps) == 1 else f"{abs(steps)} steps"
    said = f"{change(plan.gain_db)} dB, {step} {'up' if steps > 0 else 'down'}, without re-encoding: "
    if spec.loudness is None:
        return f"{said}its true peak is then {figure(predicted.true_peak_dbtp)} dBTP."
    off_db = MEASURES[spec.loudness.measure](predicted) - spec.loudness.target_for(reading.source.channels)
    landed = f"{_subject(spec)} comes from {_level(reading, spec, unit=False)} to {_level(predicted, spec)}"
    error = f"{figure(abs(off_db), 2)} dB {'over' if off_db > 0 else 'under'} the target"
    if abs(off_db) <= spec.loudness.tolerance:
        return f"{said}{landed}, {error}; a step is 1.505 dB."
    return f"{said}{landed}, {error}: no whole step comes nearer without passing a ceiling."


def _by_gain(reading: Reading, spec: Spec, plan: Plan, ceiling: str | None) -> str:
    predicted = plan.predicted
    if spec.loudness is None:
        return f"Gain of {change(plan.gain_db)} dB brings {_ceiling_name(ceiling)} under its ceiling."
    start = f"Gain of {change(plan.gain_db)} dB brings {_subject(spec)} from {_level(reading, spec, unit=False)} to "
    landed = f"{_level(predicted, spec)}; its true peak is then {figure(predicted.true_peak_dbtp)} dBTP."
    target = spec.loudness.target_for(reading.source.channels)
    if target - MEASURES[spec.loudness.measure](predicted) < 0.05:
        return start + landed
    return (
        start + landed + f" More would take {_ceiling_name(ceiling)} over its ceiling; this is within the tolerance."
    )


def _short(reading: Reading, spec: Spec, plan: Plan, ceiling: str | None) -> list[str]:
    assert spec.loudness
    predicted = plan.predicted
    target = spec.loudness.target_for(reading.source.channels)
    missing_db = target - MEASURES[spec.loudness.measure](predicted)
    if missing_db <= spec.loudness.tolerance:
        return []
    unit = MEASURE_UNITS[spec.loudness.measure]
    wanted_db = plan.gain_db + missing_db
    return [
        f"Gain of {change(wanted_db)} dB would bring {_subject(spec)} to {figure(target)} {unit}, "
        f"but {_over_ceiling(reading, spec, wanted_db, ceiling)}.",
        f"By gain alone it reaches {_level(predicted, spec)}, {figure(missing_db)} dB short of the target. "
        f"A limiter, a mix with {figure(missing_db)} dB less peak, or a quieter destination would do.",
    ]


def _over_ceiling(reading: Reading, spec: Spec, wanted_db: float, ceiling: str | None) -> str:
    if ceiling not in _CEILINGS:
        peak_dbfs = reading.sample_peak_dbfs + wanted_db
        return f"its samples would then reach {change(peak_dbfs)} dBFS, over full scale"
    name, unit = _CEILINGS[ceiling]
    found = (_FIGURES[ceiling](reading) or 0.0) + wanted_db
    limit = getattr(spec.limits, ceiling)
    over = f"{figure(found - limit)} dB over the ceiling of {figure(limit)}"
    return f"{name} would then be {change(found) if found > 0 else figure(found)} {unit}, {over}"


def _ceiling_name(ceiling: str | None) -> str:
    return _CEILINGS[ceiling][0] if ceiling in _CEILINGS else "its sample peak"


def misses(plan: Plan) -> list[str]:
    """What no gain can mend: range, length, size, format."""
    told = {*MEASURES, *_CEILINGS}
    return [
        f"The spec asks for {finding.text}; found {_found(finding.found)}.{_would_fit(plan, finding)}"
        for finding in plan.verdict.findings
        if not finding.meets and finding.rule not in told
    ]


def _would_fit(plan: Plan, finding: Finding) -> str:
    """Of a file that is too large, what would be small enough: shorter words, else the highest bit rate that fits."""
    source, most = plan.predicted.source, finding.required
    if finding.rule != "max_size_bytes" or not isinstance(most, int):
        return ""
    if (plan.output.bits or 0) > _SHORT_BITS and source.frames * source.channels * _SHORT_BITS // 8 < most:
        return f" With {_SHORT_BITS} bits it would fit."
    channels = min(source.channels, MOST_CHANNELS["mp3"])
    kbps = highest_kbps("mp3", coded_rate_hz("mp3", source.sample_rate_hz), source.duration_s, most)
    folded = ", folded down to stereo," if channels < source.channels else ""
    return f" MP3 at {kbps:g} kbit/s{folded} would fit." if kbps else " At this length not even MP3 would fit."


def _found(found: object) -> str:
    return figure(found, 3).rstrip("0").rstrip(".") if isinstance(found, float) else str(found)


def _mono_target(reading: Reading, spec: Spec) -> list[str]:
    if reading.source.channels != 1 or spec.loudness is None or spec.loudness.mono_target is None:
        return []
    mono, both = spec.loudness.mono_target, spec.loudness.target
    return [
        f"One channel is brought to {amount(mono)} LUFS where two would be at {amount(both)}: "
        "played by both loudspeakers it is then as loud."
    ]


def _word_length(reading: Reading, plan: Plan) -> list[str]:
    bits = plan.output.bits
    if plan.action == "cannot_meet":
        return []
    if plan.dithers:
        what = "The gained samples are rounded" if plan.gain_db else "Its words are shortened"
        shaped = ", its noise shaped" if plan.output.dither == "shaped" else ""
        return [f"{what} to {bits} bits with TPDF dither{shaped}, once and last."]
    if word_length_falls(reading.bits_used, plan.output, plan.gain_db):
        return [
            f"It is rounded to {bits} bits without dither, as the spec asks: "
            "the quietest detail turns into distortion that follows the signal."
        ]
    return []


def _level(reading: Reading, spec: Spec, unit: bool = True) -> str:
    assert spec.loudness
    text = figure(MEASURES[spec.loudness.measure](reading))
    return f"{text} {MEASURE_UNITS[spec.loudness.measure]}" if unit else text


def _target(reading: Reading, spec: Spec) -> str:
    assert spec.loudness
    target = spec.loudness.target_for(reading.source.channels)
    return f"{amount(target)} ±{amount(spec.loudness.tolerance)} {MEASURE_UNITS[spec.loudness.measure]}"
