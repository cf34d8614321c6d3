"""The short words of the board and the rows of figures in its close-up."""

from dataclasses import dataclass
from typing import Any

from nicelevel.core.specs.format_words import container_word, encoding_word, rate_word
from nicelevel.core.specs.judge import MEASURES
from nicelevel.core.specs.spec import Spec
from nicelevel.core.values import Note, Plan, Reading, Source
from nicelevel.core.words import listed

from .vial import CENTRE, KEY_OF_MEASURE, Seal, Vial, place
from .words import NOTHING, figure, level, megabytes

_NOTE_WORDS = {
    "digital_silence": "silence",
    "too_short": "too short",
    "clipped": "clipped",
    "over_full_scale": "over 0 dB",
    "inter_sample_over": "over 0 dBTP",
    "dc": "DC",
    "nearly_identical": "nearly mono",
    "quieter_copy": "copied side",
    "late_copy": "late side",
    "level_misstated": "misstated",
    "tick_at_head": "tick",
    "cut_tail": "cut tail",
    "silence_inside": "holes",
    "lossy_ancestry": "once lossy",
    "limiter_left_on": "limited",
    "one_sided": "one-sided",
    "inverted": "inverted",
    "identical": "two equal sides",
    "dead_air_head": "dead air first",
    "dead_air_tail": "dead air",
    "bits_unused": "bits unused",
    "rate_outlier": "other rate",
    "bits_outlier": "other word length",
    "layout_outlier": "other channels",
    "length_outlier": "other length",
    "limited_outlier": "limited",
    "without_end": "may be cut off",
    "same_file": "here twice",
    "layout_assumed": "order assumed",
    "layout_unknown": "no layout",
}


def short_note(note: Note) -> str:
    """A note in a word or two."""
    return _NOTE_WORDS.get(note.code, note.code.replace("_", " "))


def aside_word(standing: Any) -> str:
    """Why a version does not count, in some words; standing: with the fields of `store.versions.Standing`."""
    if standing.is_unasked:
        return "newer than what was chosen"
    if standing.by_choice:
        return f"set aside: {listed(standing.instead)} was chosen"
    return "replaced" if standing.is_corrected else "set aside: older"


def aside_sentence(standing: Any) -> str:
    """The same in a sentence."""
    instead = listed(standing.instead)
    if standing.is_unasked:
        return f"It came after {instead} was chosen for this title, and nobody has said yet which of them counts."
    if standing.by_choice:
        return f"{instead} was chosen for this title."
    if standing.is_corrected:
        return f"A later file stands for this one: {instead}."
    counts = "counts" if len(standing.instead) == 1 else "count"
    return f"{instead} {counts} for this title: names and dates say that it is newer."


def note_word(reading: Reading) -> str:
    """The gravest note in a word or two, with a count where there are more."""
    first, *others = reading.notes
    return f"{short_note(first)} +{len(others)}" if others else short_note(first)


def short_word(plan: Plan, spec: Spec) -> str:
    """Why a cell cannot meet, in two words: how far it stays from the target, or what else is wrong."""
    if spec.loudness is None:
        return "misses"
    target = spec.loudness.target_for(plan.predicted.source.channels)
    found = MEASURES[spec.loudness.measure](plan.predicted)
    if level(found) == NOTHING:
        return "no level"
    missing_db = target - found
    return f"short {figure(missing_db)}" if missing_db > spec.loudness.tolerance else "misses"


def headline(plan: Plan, state: str) -> str:
    """The close-up's first words."""
    if state in ("reference", "proved", "missed", "failed", "stopped"):
        return {
            "reference": "The others are brought to this one",
            "proved": "Written, read back and proved",
            "missed": "Written, but it misses its spec",
            "failed": "Rendering failed",
            "stopped": "Rendering was stopped",
        }[state]
    return {
        "as_is": "Lands as it is",
        "gain": "Lands by gain alone",
        "limit": f"Lands with {figure(plan.limiting_db)} dB of limiting",
        "cannot_meet": "Cannot meet it with limiting" if plan.limiting else "Cannot meet it by gain",
    }[plan.action]


_FIGURES = (
    ("Integrated, LUFS", "integrated_lufs"),
    ("True peak, dBTP", "true_peak_dbtp"),
    ("Loudness range, LU", "loudness_range_lu"),
    ("Loudest 3 s, LUFS", "max_short_term_lufs"),
    ("Peak to loudness, LU", "plr_lu"),
)
_ASKED_FOR = {
    "dialogue_lufs": "Speech, LUFS",
    "rms_dbfs": "RMS, dBFS",
    "sample_peak_dbfs": "Sample peak, dBFS",
    "max_momentary_lufs": "Loudest 400 ms, LUFS",
}
"""Figures that stand in the table only where a spec speaks of them."""

_KEY_OF_LIMIT = {"max_sample_peak_dbfs": "sample_peak_dbfs", "max_momentary_lufs": "max_momentary_lufs"}


def _asked_for(spec: Spec) -> list[tuple[str, str]]:
    """What a spec is about and the table does not have anyway, the aim itself first."""
    aim = [KEY_OF_MEASURE[spec.loudness.measure]] if spec.loudness else []
    limits = [key for limit, key in _KEY_OF_LIMIT.items() if getattr(spec.limits, limit) is not None]
    return [(_ASKED_FOR[key], key) for key in dict.fromkeys((*aim, *limits)) if key in _ASKED_FOR]


def aim_level(spec: Spec, found: Reading | dict[str, Any]) -> str:
    """The figure that a spec is about, of a reading or its JSON: integrated loudness unless it measures otherwise."""
    measure = spec.loudness.measure if spec.loudness else "integrated"
    key = KEY_OF_MEASURE["integrated" if measure == "true_peak" else measure]
    return level(found.get(key) if isinstance(found, dict) else getattr(found, key))


def figure_rows(
    source: Reading, planned: Reading, proved: dict[str, Any] | None, spec: Spec
) -> list[tuple[str, str, str, str]]:
    """Name, source, planned and proved of each figure in the close-up; proved is the JSON of a reading."""
    rows = []
    for name, key in (*_asked_for(spec), *_FIGURES):
        was, planned_level = (level(getattr(each, key)) for each in (source, planned))
        rows.append((name, was, planned_level, level(proved.get(key)) if proved else ""))
    return rows


_CARRIED = {"none": "not carried over", "tags": "its tags", "all": "all of it"}


def fact_rows(
    source: Source, planned: Source, proved: dict[str, Any] | None, spec: Spec
) -> list[tuple[str, str, str]]:
    """What a file is before and after: what differs and what stays, side by side. proved: the JSON of a reading."""
    kbps = _kbps(source.bitrate_kbps), _kbps(proved["bitrate_kbps"] if proved else planned.bitrate_kbps)
    size = proved["size_bytes"] if proved else planned.size_bytes
    about = "about " if planned.size_is_estimate and not proved else ""
    rows = [
        ("File", container_word(source.container), container_word(planned.container)),
        ("Samples", _samples_word(source), _samples_word(planned)),
        ("Rate", rate_word(source.sample_rate_hz), rate_word(planned.sample_rate_hz)),
        ("Channels", source.layout.name, planned.layout.name),
        ("Bit rate", *kbps),
        ("Metadata", "–", _CARRIED[spec.output.metadata]),
        ("Size", f"{megabytes(source.size_bytes)} MB", f"{about}{megabytes(size)} MB" if size else "–"),
    ]
    return [row for row in rows if row[1:] != ("–", "–")]


def _samples_word(source: Source) -> str:
    word = encoding_word(source.encoding)
    packed = source.bits_declared and not source.encoding.startswith("pcm")
    return f"{word}, {source.bits_declared} bit" if packed else word


def _kbps(kbps: float | None) -> str:
    return f"{kbps:.0f} kbit/s" if kbps else "–"


@dataclass(frozen=True)
class Miniature:
    """A destination of a job in one small vial: how its sources land there together."""

    vial: Vial
    title: str


def draw_miniature(name: str, plans: list[Plan | None], proved: int) -> Miniature:
    """A full bubble where everything lands, a bar where something cannot; sealed where all is proved."""
    known = [plan for plan in plans if plan]
    unmet = sum(plan.action == "cannot_meet" for plan in known)
    lands = len(known) - unmet
    where = CENTRE if not unmet else place(-2.0 - 12.0 * unmet / max(1, len(known)), 1.0)
    seal: Seal = "proved" if proved and proved == lands else None
    title = f"{name}: {lands} of {len(plans)} land, {proved} proved"
    return Miniature(Vial("cannot_meet" if unmet else "gain", None, where, True, seal), title)


_FAILED_WORDS = {
    "no_space": "disk full",
    "no_permission": "cannot be written",
    "lost": "file gone",
    "crashed": "broke off",
    "never_ended": "never ended",
    "not_prepared": "not prepared",
    "cannot_meet": "cannot meet",
    "error": "went wrong",
}


def failed_word(error_code: str) -> str:
    """Why something failed, in a word or two; the sentence stands elsewhere."""
    return _FAILED_WORDS.get(error_code, error_code.replace("_", " "))


def can_be_tried_again(error_code: str | None) -> bool:
    """Whether what failed says nothing of the file itself, so that another try may end otherwise."""
    return error_code in ("no_space", "no_permission", "lost", "crashed", "never_ended", "error", "too_large")
