"""What cannot be met by any programme: demands of one spec that exclude each other, with a way out."""

import math
from collections.abc import Iterator
from dataclasses import dataclass

from ..codecs import AC3_KBPS, MP3_KBPS
from ..words import amount, figure
from .format_words import format_name
from .spec import COUNT_OF, Format, Spec

MB = 1_000_000

PCM_BYTES = {"pcm_16": 2, "pcm_24": 3, "pcm_32": 4, "float_32": 4, "float_64": 8}


@dataclass(frozen=True)
class Contradiction:
    """What excludes what, and what would do; `key` is the table and key of the spec that it speaks of."""

    key: str
    sentence: str
    way_out: str


def contradictions(spec: Spec) -> tuple[Contradiction, ...]:
    """Everything in a spec that no file can meet."""
    found = [*_levels(spec), *_lengths(spec), *_rates(spec), *_sizes(spec)]
    return tuple(found)


def needed_crest_db(spec: Spec) -> float | None:
    """How far a programme's peak may be over its RMS to meet target and ceiling by gain alone; None where both are
    not asked for."""
    ceiling = spec.limits.max_sample_peak_dbfs
    if spec.loudness is None or spec.loudness.measure != "rms" or ceiling is None:
        return None
    return ceiling - spec.loudness.target


def _levels(spec: Spec) -> Iterator[Contradiction]:
    loudness, limits = spec.loudness, spec.limits
    if loudness is None:
        return
    lowest = loudness.target - loudness.tolerance
    for key, measures, what in (
        ("max_sample_peak_dbfs", ("sample_peak", "rms"), "a sample"),
        ("max_true_peak_dbtp", ("true_peak",), "a true peak"),
        ("max_short_term_lufs", ("integrated", "max_short_term"), "the loudest 3 s"),
        ("max_momentary_lufs", ("integrated",), "the loudest 400 ms"),
    ):
        ceiling = getattr(limits, key)
        if ceiling is not None and loudness.measure in measures and ceiling < lowest:
            yield Contradiction(
                f"limits.{key}",
                f"{what[0].upper()}{what[1:]} of at most {amount(ceiling)} cannot be where the level is "
                f"{amount(loudness.target)} ±{amount(loudness.tolerance)}.",
                f"Raise the limit to {amount(loudness.target)} or more, or lower the target.",
            )


def _lengths(spec: Spec) -> Iterator[Contradiction]:
    limits = spec.limits
    shortest, longest = limits.min_duration_s or 0.0, limits.max_duration_s or math.inf
    if shortest > longest:
        yield Contradiction(
            "limits.min_duration_s",
            f"Nothing lasts at least {amount(shortest)} s and at most {amount(longest)} s.",
            "Exchange the two, or leave one out.",
        )
    if spec.method.closing_fade_s is not None and not limits.durations_s and limits.max_duration_s is None:
        yield Contradiction(
            "method.closing_fade_s",
            "Nothing is ever too long here, so nothing would be cut.",
            "Say how long it may last, or leave the cut out.",
        )
    outside = [each for each in limits.durations_s or () if not shortest <= each <= longest]
    if outside:
        yield Contradiction(
            "limits.durations_s",
            f"A length of {' or '.join(amount(each) for each in outside)} s is outside what the limits allow.",
            "Take it out, or move the limit.",
        )


def _rates(spec: Spec) -> Iterator[Contradiction]:
    for number, wanted in enumerate(spec.formats):
        key, name = f"formats.{number}", format_name(wanted)
        yield from _bit_rate(spec, key, name, wanted)


def _bit_rate(spec: Spec, key: str, name: str, wanted: Format) -> Iterator[Contradiction]:
    kbps, least = wanted.bitrate_kbps, spec.limits.min_bitrate_kbps
    if kbps is None:
        return
    known = {"mp3": MP3_KBPS, "ac3": AC3_KBPS}.get(wanted.encoding)
    if known and wanted.bitrate_mode == "constant" and kbps not in known:
        nearest = min(known, key=lambda each: abs(each - kbps))
        yield Contradiction(
            key, f"{name} has no constant bit rate of {amount(kbps)} kbit/s.", f"The nearest is {nearest}."
        )
    if least is not None and kbps < least:
        yield Contradiction(
            key,
            f"{name} at {amount(kbps)} kbit/s is under the {amount(least)} kbit/s that are asked for.",
            "Raise its bit rate, or lower what is asked for.",
        )


def _sizes(spec: Spec) -> Iterator[Contradiction]:
    """Formats that are too large for every length that is allowed."""
    limit = spec.limits.max_size_bytes
    shortest_s = min(spec.limits.durations_s or (spec.limits.min_duration_s or 0.0,))
    if limit is None or shortest_s == 0.0:
        return
    for number, wanted in enumerate(spec.formats):
        size = size_bytes(wanted, shortest_s)
        if size is None or size <= limit:
            continue
        mono = size_bytes(wanted.model_copy(update={"channels": "mono"}), shortest_s)
        even = ""
        if mono is not None and mono < size:
            even = f", even in one channel {figure(mono / MB, 2)} MB"
        highest = limit * 8 / 1000 / shortest_s
        yield Contradiction(
            f"formats.{number}",
            f"{format_name(wanted)} can never be chosen: {amount(shortest_s)} s are {figure(size / MB, 2)} MB{even}; "
            f"{figure(limit / MB, 2)} MB are allowed.",
            f"Take it out, raise the size, or code it at {math.floor(highest)} kbit/s or less.",
        )


def size_bytes(wanted: Format, duration_s: float) -> int | None:
    """Bytes of the samples of a format that says its rate and channels, or of its bit rate; else None."""
    if wanted.bitrate_kbps is not None:
        return round(duration_s * wanted.bitrate_kbps * 125)
    if wanted.encoding not in PCM_BYTES or wanted.sample_rate == "keep" or wanted.channels not in COUNT_OF:
        return None
    if wanted.container == "flac":
        return None
    return round(duration_s * wanted.sample_rate) * COUNT_OF[wanted.channels] * PCM_BYTES[wanted.encoding]
