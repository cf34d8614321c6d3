"""How specs are written, on screen and in tables."""

from nicelevel.core.specs.spec import MEASURE_UNITS, Format, Spec
from nicelevel.core.words import amount

_MEASURE_WORDS = {"rms": "RMS ", "max_short_term": "loudest 3 s ", "sample_peak": "peak ", "true_peak": "peak "}


def spec_line(spec: Spec) -> str:
    """The demands of a spec in one short line: −23 ±0.5 LUFS · −1 dBTP; without any the format."""
    parts = []
    if spec.loudness:
        unit = MEASURE_UNITS[spec.loudness.measure]
        measure = _MEASURE_WORDS.get(spec.loudness.measure, "")
        parts.append(f"{measure}{amount(spec.loudness.target)} ±{amount(spec.loudness.tolerance)} {unit}")
    if spec.limits.max_true_peak_dbtp is not None:
        parts.append(f"{amount(spec.limits.max_true_peak_dbtp)} dBTP")
    if spec.limits.max_sample_peak_dbfs is not None:
        parts.append(f"{amount(spec.limits.max_sample_peak_dbfs)} dBFS")
    return " · ".join(parts or _format_parts(spec.formats[0])) or "level and bits untouched"


def _format_parts(wanted: Format) -> list[str]:
    bits = wanted.encoding.removeprefix("pcm_") + " bit" if wanted.encoding.startswith("pcm") else ""
    rate = "" if wanted.sample_rate == "keep" else f"{wanted.sample_rate / 1000:g} kHz"
    return [part for part in (bits, rate, wanted.channels if wanted.channels != "keep" else "") if part]
