"""Core values as the JSON of the command line's contract. Here, and only here, a missing level becomes null."""

import math
from typing import TYPE_CHECKING, Any

from nicelevel.core.errors import NiceLevelError
from nicelevel.core.measure.gating import MOMENTARY_HOPS, SHORT_TERM_HOPS, series_lufs
from nicelevel.core.recipes.harms import harms_of
from nicelevel.core.specs.format_words import format_words
from nicelevel.core.values import Deliverable, Finding, Plan, Reading, Verdict

if TYPE_CHECKING:
    from nicelevel.core.mp3 import Regained
    from nicelevel.core.specs import Spec
    from nicelevel.core.specs.spec import Format
    from nicelevel.core.speech import Dialogue
    from nicelevel.core.steps import Chain

Json = dict[str, Any]


def null_unless_finite(value: Any) -> Any:
    """A number as JSON can hold it: minus infinity and NaN become null, sequences item by item."""
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, (list, tuple)):
        return [null_unless_finite(item) for item in value]
    if isinstance(value, dict):
        return {key: null_unless_finite(item) for key, item in value.items()}
    return value


def error_json(path: str, error: NiceLevelError) -> Json:
    return {"path": path, "error": {"code": error.code, "message": error.message}}


def reading_json(reading: Reading, path: str | None = None, with_series: bool = False) -> Json:
    """Every key of `measure`."""
    source = reading.source
    facts: Json = {
        "path": path or str(source.path),
        "size_bytes": source.size_bytes,
        "container": source.container,
        "encoding": source.encoding,
        "bitrate_kbps": source.bitrate_kbps,
        "sample_rate": source.sample_rate_hz,
        "channels": source.channels,
        "layout": source.layout.name,
        "frames": source.frames,
        "duration_s": source.duration_s,
        "bits_declared": source.bits_declared,
        "bits_used": reading.bits_used,
        "integrated_lufs": reading.integrated_lufs,
        "loudness_range_lu": reading.loudness_range_lu,
        "max_momentary_lufs": reading.max_momentary_lufs,
        "max_short_term_lufs": reading.max_short_term_lufs,
        "true_peak_dbtp": reading.true_peak_dbtp,
        "true_peak_per_channel_dbtp": reading.true_peak_per_channel_dbtp,
        "sample_peak_dbfs": reading.sample_peak_dbfs,
        "min_sample": reading.min_sample,
        "max_sample": reading.max_sample,
        "rms_dbfs": reading.rms_dbfs,
        "plr_lu": reading.plr_lu,
        "dc_offset": reading.dc_offset,
        "clipped_samples": reading.clipped_samples,
        "silence_head_s": reading.silence_head_s,
        "silence_tail_s": reading.silence_tail_s,
        "correlation": reading.correlation,
        "mono_kind": reading.mono_kind,
        "notes": [note.code for note in reading.notes],
    }
    if reading.dialogue_lufs is not None:
        facts["dialogue_lufs"] = reading.dialogue_lufs
    if source.dialnorm_db is not None:
        facts["dialnorm_db"] = source.dialnorm_db
    if with_series:
        facts["series"] = series_json(reading)
    answer: Json = null_unless_finite(facts)
    return answer


def dialogue_json(dialogue: "Dialogue") -> Json:
    """What is spoken by itself: its loudness, its share of the time, where."""
    places = [[round(first_s, 3), round(last_s, 3)] for first_s, last_s in dialogue.places]
    lufs = null_unless_finite(dialogue.lufs)
    return {"dialogue_lufs": lufs, "speech_share": dialogue.share, "speech_s": places}


def series_json(reading: Reading) -> Json:
    """Momentary and short-term loudness every 100 ms."""
    energies = reading.curves.energies
    return {
        "hop_s": 0.1,
        "momentary": null_unless_finite(series_lufs(energies, MOMENTARY_HOPS).tolist()),
        "short_term": null_unless_finite(series_lufs(energies, SHORT_TERM_HOPS).tolist()),
    }


def steps_json(chain: "Chain") -> Json:
    """What was done first, step by step, and where steps harm each other; nothing where nothing was asked for."""
    if not chain.done:
        return {}
    steps = []
    for each in chain.done:
        after = each.stages[-1].after if each.stages else each.before
        said = {"do": each.step.do, "text": each.words, "changed": bool(each.stages), "frames": after.frames}
        steps.append(said | each.step.figures(each.before, each.found))
    return {"steps": steps, "warnings": [harm.sentence for harm in harms_of(chain.recipe)]}


def finding_json(finding: Finding) -> Json:
    return {
        "rule": finding.rule,
        "required": null_unless_finite(finding.required),
        "found": null_unless_finite(finding.found),
        "meets": finding.meets,
        "text": finding.text,
    }


def verdict_word(verdict: Verdict) -> str:
    return "meets" if verdict.meets else "misses"


def check_json(path: str, verdict: Verdict) -> Json:
    """The answer of `check`."""
    return {
        "path": path,
        "verdict": verdict_word(verdict),
        "findings": [finding_json(finding) for finding in verdict.findings],
    }


def regained_json(path: str, made: "Regained") -> Json:
    """The answer of `regain`."""
    before, after = (reading_json(each) if each else None for each in (made.before, made.after))
    output = {
        "path": str(made.path),
        "sha256": made.sha256,
        "steps": made.steps,
        "asked_db": made.asked_db,
        "gain_db": made.gain_db,
        "error_db": made.error_db,
        "before": before,
        "after": after,
    }
    answer: Json = null_unless_finite({"path": path, "output": output})
    return answer


def predicted_json(predicted: Reading) -> Json:
    answer: Json = null_unless_finite(
        {
            "integrated_lufs": predicted.integrated_lufs,
            "loudness_range_lu": predicted.loudness_range_lu,
            "max_momentary_lufs": predicted.max_momentary_lufs,
            "max_short_term_lufs": predicted.max_short_term_lufs,
            "true_peak_dbtp": predicted.true_peak_dbtp,
            "sample_peak_dbfs": predicted.sample_peak_dbfs,
            "rms_dbfs": predicted.rms_dbfs,
            "duration_s": predicted.source.duration_s,
            "size_bytes": predicted.source.size_bytes,
            "size_is_estimate": predicted.source.size_is_estimate,
            "bitrate_kbps": predicted.source.mean_kbps,
        }
    )
    if predicted.dialogue_lufs is not None:
        answer["dialogue_lufs"] = null_unless_finite(predicted.dialogue_lufs)
    return answer


def one_plan_json(plan: Plan) -> Json:
    return {
        "action": plan.action,
        "gain_db": plan.gain_db,
        "limiting_db": plan.limiting_db,
        "limited_share_ratio": plan.limiting.share_ratio if plan.limiting else 0.0,
        "limited_places": [list(place) for place in plan.limiting.places] if plan.limiting else [],
        "predicted": predicted_json(plan.predicted),
        "reasons": list(plan.reasons),
        "findings": [finding_json(finding) for finding in plan.verdict.findings],
        "format": {
            "container": plan.output.container,
            "encoding": plan.output.lossless or plan.output.encoding,
            "sample_rate": plan.output.sample_rate_hz,
            "layout": plan.output.layout.name,
            "channel": plan.output.channel_name,
            "dither": plan.output.dither if plan.dithers else "none",
        },
    }


def plans_json(path: str, plans: tuple[Plan, ...]) -> Json:
    """The answer of `plan`: the first format's plan, and all of them where there are several files."""
    answer = {"path": path, **one_plan_json(plans[0].shown)}
    if len(plans) > 1:
        answer["outputs"] = [one_plan_json(plan) for plan in plans]
    return answer


def deliverable_json(deliverable: Deliverable) -> Json:
    """One output of `render`."""
    plan, proof = deliverable.plan, deliverable.proof
    return {
        "path": str(deliverable.path),
        "sha256": proof.sha256,
        "action": plan.action,
        "gain_db": plan.gain_db,
        "limiting_db": plan.limiting_db,
        "predicted": predicted_json(plan.predicted),
        "measured": reading_json(proof.reading),
        "rounds": deliverable.rounds,
        "metadata": {"kept": list(deliverable.kept), "dropped": list(deliverable.dropped)},
        "verdict": verdict_word(proof.verdict),
        "findings": [finding_json(finding) for finding in proof.verdict.findings],
    }


def left_out_json(wanted: "Format", error: NiceLevelError) -> Json:
    """An output of `render` that could not be made from its source."""
    return {"format": format_words(wanted), "error": {"code": error.code, "message": error.message}}


def spec_json(spec: "Spec") -> Json:
    return spec.model_dump(exclude_none=True)
