"""How specs are written, on screen and in tables."""

from collections.abc import Sequence

from nicelevel.core.specs.contradictions import needed_crest_db
from nicelevel.core.specs.spec import MEASURE_UNITS, Format, Spec
from nicelevel.core.values import Plan, Reading
from nicelevel.core.words import amount, figure

_MEASURE_WORDS = {
    "dialogue": "speech ",
    "rms": "RMS ",
    "max_short_term": "loudest 3 s ",
    "sample_peak": "peak ",
    "true_peak": "peak ",
}


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


def short_demand(spec: Spec) -> str:
    """A spec in a word or two, for a list: −16 / −19, RMS −14, 16 kHz."""
    if spec.loudness is None:
        return next(iter(_format_parts(spec.formats[0])), "as mixed")
    measure = _MEASURE_WORDS.get(spec.loudness.measure, "")
    mono = f" / {amount(spec.loudness.mono_target)}" if spec.loudness.mono_target is not None else ""
    return f"{measure}{amount(spec.loudness.target)}{mono}"


def _format_parts(wanted: Format) -> list[str]:
    bits = wanted.encoding.removeprefix("pcm_") + " bit" if wanted.encoding.startswith("pcm") else ""
    rate = "" if wanted.sample_rate == "keep" else f"{wanted.sample_rate / 1000:g} kHz"
    return [part for part in (bits, rate, wanted.channels if wanted.channels != "keep" else "") if part]


def spec_notes(spec: Spec, readings: Sequence[Reading], plans: Sequence[Plan]) -> tuple[str, ...]:
    """What is worth knowing of a spec, in a sentence each; some of them about the sources that stand against it."""
    notes = []
    crest_db = needed_crest_db(spec)
    if crest_db is not None:
        plain = [each for each in readings if each.sample_peak_dbfs - each.rms_dbfs <= crest_db]
        found = f"; {len(plain)} of these {len(readings)} sources have so little" if readings else ""
        notes.append(f"By gain alone this takes a crest factor of at most {figure(crest_db)} dB{found}.")
    if spec.loudness and spec.loudness.measure == "rms" and plans:
        levels = [each.predicted.integrated_lufs for each in plans if each.predicted.integrated_lufs > -70.0]
        if levels:
            notes.append(
                "RMS counts silence and bass as the ear does not: here these sources read "
                f"{figure(min(levels))} to {figure(max(levels))} LUFS."
            )
    if spec.loudness and spec.loudness.mono_target is not None:
        notes.append(
            f"One channel goes to {amount(spec.loudness.mono_target)} LUFS: BS.1770 sums the energies of channels, "
            "so the same voice in two reads 3 LU more. Played from both loudspeakers the two are equally loud."
        )
    return tuple(notes)
