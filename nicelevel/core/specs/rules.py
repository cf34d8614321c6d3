"""The one table of rules that a spec may have: what each is called, its unit, its figure, and who says how it is
measured.
"""

from dataclasses import dataclass


@dataclass(frozen=True)
class Rule:
    """figure: the key of its figure in the JSON of a reading or a prediction, empty where it is told in words;
    measured_by: the standard, or the spec itself where none says how.
    """

    title: str
    unit: str
    figure: str
    measured_by: str = "spec"


_LOUDNESS, _PEAK = "ITU-R BS.1770-5", "ITU-R BS.1770-5, Annex 2"
_SCALES, _RANGE = "EBU Tech 3341", "EBU Tech 3342"

RULES = {
    # what may be the measure of the target
    "integrated": Rule("Programme loudness", "LUFS", "integrated_lufs", _LOUDNESS),
    "dialogue": Rule("Loudness of speech", "LUFS", "dialogue_lufs", _LOUDNESS),
    "max_short_term": Rule("Loudest 3 s", "LUFS", "max_short_term_lufs", _SCALES),
    "rms": Rule("Level, RMS", "dBFS", "rms_dbfs"),
    "sample_peak": Rule("Sample peak", "dBFS", "sample_peak_dbfs"),
    "true_peak": Rule("True peak", "dBTP", "true_peak_dbtp", _PEAK),
    # limits
    "max_true_peak_dbtp": Rule("True peak", "dBTP", "true_peak_dbtp", _PEAK),
    "max_sample_peak_dbfs": Rule("Sample peak", "dBFS", "sample_peak_dbfs"),
    "max_momentary_lufs": Rule("Loudest 400 ms", "LUFS", "max_momentary_lufs", _SCALES),
    "max_short_term_lufs": Rule("Loudest 3 s", "LUFS", "max_short_term_lufs", _SCALES),
    "max_loudness_range_lu": Rule("Loudness range", "LU", "loudness_range_lu", _RANGE),
    "min_duration_s": Rule("Length", "s", "duration_s"),
    "max_duration_s": Rule("Length", "s", "duration_s"),
    "durations_s": Rule("Length", "s", "duration_s"),
    "max_size_bytes": Rule("Size", "bytes", "size_bytes"),
    "min_bitrate_kbps": Rule("Bit rate", "kbit/s", "bitrate_kbps"),
    "dialnorm": Rule("Dialogue level stated", "dB", "dialnorm_db", "ATSC A/52"),
    "format": Rule("Container, encoding", "", ""),
}


def rule_of(key: str) -> Rule:
    """The rule of a key; of what an earlier version judged by, its words alone."""
    return RULES.get(key) or Rule(key.replace("_", " "), "", "")
