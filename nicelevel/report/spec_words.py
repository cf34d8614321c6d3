"""How specs are written, on screen and in tables."""

from nicelevel.core.specs.spec import MEASURE_UNITS, Spec
from nicelevel.core.words import amount


def spec_line(spec: Spec) -> str:
    """The demands of a spec in one short line: −23 ±0.5 LUFS · −1 dBTP."""
    parts = []
    if spec.loudness:
        unit = MEASURE_UNITS[spec.loudness.measure]
        parts.append(f"{amount(spec.loudness.target)} ±{amount(spec.loudness.tolerance)} {unit}")
    if spec.limits.max_true_peak_dbtp is not None:
        parts.append(f"{amount(spec.limits.max_true_peak_dbtp)} dBTP")
    if spec.limits.max_sample_peak_dbfs is not None:
        parts.append(f"{amount(spec.limits.max_sample_peak_dbfs)} dBFS")
    return " · ".join(parts) or "level and bits untouched"
