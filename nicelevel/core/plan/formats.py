"""The format of a deliverable: every "keep" of a spec resolved for a source."""

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

from ..channels import layout_of_name
from ..codecs import DEFAULT_KBPS, coded_rate_hz, highest_kbps
from ..errors import UnsupportedError
from ..files.containers import PACKED, WRITABLE, unwritable
from ..prepare.for_output import cut_frames
from ..specs.spec import Format, Spec
from ..values import LOSSY, OutputFormat, Source

_LAW_BITS, _DECODED_BITS = 16, 24
"""Word lengths that hold what telephone codecs (ITU-T G.711, 14 bits) and lossy ones give."""


def resolve_format(source: Source, candidate: Format, spec: Spec) -> OutputFormat:
    """The format in which a source is written. Raises UnsupportedError where it cannot be.

    Where the spec has a largest size and the format names no bit rate, it gets the highest that fits.
    """
    if spec.method.allow == "steps":
        return _in_steps(source, candidate)
    encoding, lossless = _encoding(source, candidate), _lossless(candidate)
    asked_hz = source.sample_rate_hz if candidate.sample_rate == "keep" else candidate.sample_rate
    rate_hz = coded_rate_hz(encoding, asked_hz) if candidate.sample_rate == "keep" else asked_hz
    kept = candidate.channels in ("keep", source.layout.name)
    layout = source.layout if kept else layout_of_name(candidate.channels)
    kbps = _kbps(encoding, rate_hz, source, candidate, spec) if encoding in LOSSY else None
    mode = candidate.bitrate_mode
    output = OutputFormat(
        candidate.container,
        encoding,
        rate_hz,
        layout,
        candidate.dither,
        kbps,
        mode,
        lossless,
        dialnorm_db=candidate.dialnorm,
        format_key=candidate.key,
    )
    if reason := unwritable(output):
        raise UnsupportedError(reason)
    return output


def _in_steps(source: Source, candidate: Format) -> OutputFormat:
    """The MP3 that a source is, its level moved in its frames. Raises UnsupportedError where it is none."""
    if source.encoding != "mp3" or source.container != "mp3":
        raise UnsupportedError("Level without re-encoding is for MP3 alone: this was coded in another way.")
    if source.recipe:
        raise UnsupportedError("Level without re-encoding leaves all else as it is: this one has steps of its own.")
    kbps, dither = source.bitrate_kbps, "none"
    made = OutputFormat("mp3", "mp3", source.sample_rate_hz, source.layout, dither, kbps, in_steps=True)
    return replace(made, format_key=candidate.key)


def outputs_of(source: Source, candidate: Format, spec: Spec) -> tuple[OutputFormat, ...]:
    """The files that a source becomes in a format: one, or one for each channel. Raises as `resolve_format`."""
    whole = resolve_format(source, candidate, spec)
    channels = len(whole.layout.positions)
    if candidate.files == "one" or channels == 1:
        return (whole,)
    mono = layout_of_name("mono")
    return tuple(replace(whole, layout=mono, part_of=whole.layout, channel=channel) for channel in range(channels))


def in_one_file(spec: Spec) -> Spec:
    """What a spec demands of a whole programme, whose files per channel are planned from it."""
    return spec.model_copy(
        update={"formats": tuple(each.model_copy(update={"files": "one"}) for each in spec.formats)}
    )


def possible_formats(source: Source, spec: Spec) -> list[tuple[Format, OutputFormat]]:
    """The formats of a spec that can be made from a source, each with what it becomes."""
    found = []
    for candidate in spec.formats:
        with suppress(UnsupportedError):
            found += [(candidate, output) for output in outputs_of(source, candidate, spec)]
    return found


def left_out(source: Source, spec: Spec) -> tuple[tuple[Format, UnsupportedError], ...]:
    """The formats that all of a spec's files are asked for in, and that cannot be made from a source, and why."""
    found = []
    for candidate in spec.formats if spec.output.pick == "all" else ():
        try:
            outputs_of(source, candidate, spec)
        except UnsupportedError as error:
            found.append((candidate, error))
    return tuple(found)


def outputs_beside(source: Source, spec: Spec) -> tuple[OutputFormat, ...]:
    """Every file that a spec may make of a source, side by side: their names must differ."""
    return tuple(output for _, output in possible_formats(source, spec))


def format_behind(source: Source, spec: Spec, output: OutputFormat) -> Format:
    """The format of a spec that became this output."""
    return next(candidate for candidate, made in possible_formats(source, spec) if made == output)


def _kbps(encoding: str, rate_hz: int, source: Source, candidate: Format, spec: Spec) -> float:
    if candidate.bitrate_kbps:
        return candidate.bitrate_kbps
    if most := spec.limits.max_size_bytes:
        cut = cut_frames(source.shape, rate_hz, spec)
        duration_s = source.duration_s if cut is None else cut / rate_hz
        return highest_kbps(encoding, rate_hz, duration_s, most) or DEFAULT_KBPS[encoding]
    return DEFAULT_KBPS[encoding]


def _lossless(candidate: Format) -> str | None:
    if candidate.encoding == "alac":
        return "alac"
    return "flac" if candidate.container == "flac" or candidate.encoding == "flac" else None


def _encoding(source: Source, candidate: Format) -> str:
    """PCM words of FLAC and ALAC by their length; what is kept falls back to what the container holds."""
    if candidate.encoding not in ("keep", "flac", "alac"):
        return candidate.encoding
    held = PACKED if _lossless(candidate) else WRITABLE[candidate.container]
    return _kept_words(source, held)


def _kept_words(source: Source, held: Sequence[str]) -> str:
    """The words of a source as a container holds them: no shorter, and floating point only of floating point.

    What was coded with loss has no word length of its own: 24 bits hide nothing of it, and all take them.
    """
    if source.is_float:
        return source.encoding if source.encoding in held else held[-1]
    bits = source.bits_declared or (_LAW_BITS if source.encoding in ("ulaw", "alaw") else _DECODED_BITS)
    fixed = [each for each in held if each.startswith("pcm_")]
    return next((each for each in fixed if int(each.removeprefix("pcm_")) >= bits), fixed[-1])


def dithers(bits_used: int | None, output: OutputFormat, gain_db: float) -> bool:
    """Whether dither goes in before the last rounding."""
    return output.dither != "none" and word_length_falls(bits_used, output, gain_db)


def word_length_falls(bits_used: int | None, output: OutputFormat, gain_db: float) -> bool:
    """Whether rounding is needed: the samples carry finer steps than the output's word length holds.

    Any gain makes words longer than every fixed-point format; without gain only a longer source does.
    """
    if output.bits is None:
        return False
    if gain_db != 0.0 or bits_used is None:
        return True
    return bits_used > output.bits
