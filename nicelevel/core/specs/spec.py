"""The spec: tables and keys of the TOML file, each with its unit and range.

Anything unknown, of a wrong type or out of sense makes the spec broken: SpecError names the key and the reason.
"""

import re
from string import Formatter
from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field, ValidationError, ValidationInfo, field_validator, model_validator

from ..codecs import LOUDEST_DIALNORM_DB, MOST_CHANNELS, QUIETEST_DIALNORM_DB, RATES_HZ
from ..errors import SpecError
from ..steps.table import AskedSteps, problem_of
from ..toml import parse_toml
from ..values import LOSSY
from .rules import RULES

Measure = Literal["integrated", "dialogue", "max_short_term", "rms", "sample_peak", "true_peak"]
Container = Literal["wav", "aiff", "caf", "flac", "m4a", "mp3", "ogg", "ac3"]
Encoding = Literal[
    "keep", "pcm_16", "pcm_24", "pcm_32", "float_32", "float_64",
    "flac", "alac", "mp3", "aac", "vorbis", "opus", "ac3",
]  # fmt: skip

_PCM = frozenset({"keep", "pcm_16", "pcm_24", "pcm_32", "float_32", "float_64"})
ENCODINGS_OF: dict[str, frozenset[str]] = {
    "wav": _PCM,
    "aiff": _PCM,
    "caf": _PCM | {"alac"},
    "flac": frozenset({"keep", "flac", "pcm_16", "pcm_24"}),
    "m4a": frozenset({"aac", "alac"}),
    "mp3": frozenset({"mp3"}),
    "ogg": frozenset({"vorbis", "opus", "flac"}),
    "ac3": frozenset({"ac3"}),
}
"""Which encodings a container can hold."""

MEASURE_UNITS = {measure: RULES[measure].unit for measure in get_args(Measure)}

NAME_FIELDS = ("title", "version", "spec", "rate", "bits", "codec", "channels", "lufs")
"""What a pattern of names may hold in braces."""

LONGEST_LOOK_AHEAD_MS = 20
MOST_SOFT_DB = 12.0

LevelDb = Annotated[float, Field(ge=-100.0, le=0.0, allow_inf_nan=False)]
PeakDb = Annotated[float, Field(ge=-100.0, le=20.0, allow_inf_nan=False)]
Positive = Annotated[float, Field(gt=0.0, allow_inf_nan=False)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class About(_Table):
    name: Annotated[str, Field(min_length=1, max_length=80)]
    source: Annotated[str, Field(min_length=1, max_length=200)] = "house rule"


class Loudness(_Table):
    measure: Measure = "integrated"
    target: LevelDb
    tolerance: Annotated[float, Field(ge=0.0, le=20.0, allow_inf_nan=False)]
    mono_target: LevelDb | None = None

    def target_for(self, channels: int) -> float:
        """The target of a deliverable with this many channels."""
        return self.mono_target if channels == 1 and self.mono_target is not None else self.target


class Limits(_Table):
    max_true_peak_dbtp: PeakDb | None = None
    max_sample_peak_dbfs: PeakDb | None = None
    max_momentary_lufs: LevelDb | None = None
    max_short_term_lufs: LevelDb | None = None
    max_loudness_range_lu: Annotated[float, Field(ge=0.0, le=100.0, allow_inf_nan=False)] | None = None
    durations_s: Annotated[tuple[Positive, ...], Field(min_length=1, strict=False)] | None = None
    min_duration_s: Positive | None = None
    max_duration_s: Positive | None = None
    max_size_bytes: Annotated[int, Field(gt=0)] | None = None
    min_bitrate_kbps: Positive | None = None


class Method(_Table):
    allow: Literal["gain", "limiter", "steps"] = "gain"
    max_limiting_db: Annotated[float, Field(ge=0.0, le=60.0, allow_inf_nan=False)] | None = None
    look_ahead_ms: Annotated[int, Field(ge=1, le=LONGEST_LOOK_AHEAD_MS)] = 5
    release_ms: Annotated[float, Field(ge=5.0, le=2_000.0, allow_inf_nan=False)] = 30.0
    soft_db: Annotated[float, Field(ge=0.0, le=MOST_SOFT_DB, allow_inf_nan=False)] = 0.0
    closing_fade_s: Annotated[float, Field(ge=0.0, le=60.0, allow_inf_nan=False)] | None = None


class Channels(_Table):
    centre_db: PeakDb = -3.0
    surround_db: PeakDb = -3.0
    height_db: PeakDb | None = None
    lfe_db: PeakDb | Literal["off"] = "off"
    mono_law: Literal["half", "power", "left", "right"] | None = None
    matrixed: bool | None = None


_OWN_ENCODING = {"mp3": "mp3", "m4a": "aac", "ogg": "vorbis", "ac3": "ac3"}
_CONTAINER_OF = {
    **dict.fromkeys(("pcm_16", "pcm_24", "pcm_32", "float_32", "float_64"), "wav"),
    "flac": "flac",
    "alac": "m4a",
    "mp3": "mp3",
    "aac": "m4a",
    "vorbis": "ogg",
    "opus": "ogg",
    "ac3": "ac3",
}
COUNT_OF = {"mono": 1, "stereo": 2, "5.1": 6, "7.1": 8}


class Format(_Table):
    container: Container
    encoding: Encoding = "keep"
    sample_rate: Annotated[int, Field(ge=4_000, le=768_000)] | Literal["keep"] = "keep"
    channels: Literal["keep", "mono", "stereo", "5.1", "7.1"] = "keep"
    files: Literal["one", "per_channel"] = "one"
    dither: Literal["tpdf", "shaped", "none"] = "tpdf"
    bitrate_kbps: Positive | None = None
    bitrate_mode: Literal["constant", "variable"] = "constant"
    dialnorm: Annotated[int, Field(ge=QUIETEST_DIALNORM_DB, le=LOUDEST_DIALNORM_DB)] | None = None

    @property
    def key(self) -> str:
        """All that is asked for but into how many files: what this format is known by, wherever it stands."""
        asked = (self.container, self.encoding, self.sample_rate, self.channels, self.dither)
        rate = (f"{self.bitrate_kbps:g}", self.bitrate_mode) if self.bitrate_kbps else ()
        stated = () if self.dialnorm is None else (f"dialnorm {self.dialnorm}",)
        return " ".join(map(str, (*asked, *rate, *stated)))

    @model_validator(mode="before")
    @classmethod
    def _one_names_the_other(cls, told: Any) -> Any:
        """A container that is named has its usual encoding, and an encoding its usual container."""
        if not isinstance(told, dict):
            return told
        container, encoding = told.get("container"), told.get("encoding", "keep")
        if container is None and encoding in (None, "keep"):
            raise ValueError("container: is missing; a container or an encoding is to be named")
        if container is None and encoding in _CONTAINER_OF:
            return {**told, "container": _CONTAINER_OF[encoding]}
        if encoding == "keep" and container in _OWN_ENCODING:
            return {**told, "encoding": _OWN_ENCODING[container]}
        return told

    @model_validator(mode="after")
    def _container_holds_encoding(self) -> "Format":
        if self.encoding not in ENCODINGS_OF[self.container]:
            held = ", ".join(sorted(ENCODINGS_OF[self.container] - {"keep"}))
            raise ValueError(f"encoding: {self.container} cannot hold {self.encoding}; it holds {held}")
        return self

    @model_validator(mode="after")
    def _only_ac3_states_a_level(self) -> "Format":
        if self.dialnorm is not None and self.encoding != "ac3":
            raise ValueError(f"dialnorm: AC-3 states the level of its dialogue; {self.encoding} has no place for it")
        return self

    @model_validator(mode="after")
    def _single_channels_are_lossless(self) -> "Format":
        if self.files == "per_channel" and self.encoding in LOSSY:
            raise ValueError("files: a file per channel is written without loss; this encoding is lossy")
        return self

    @model_validator(mode="after")
    def _codec_has_rate_and_channels(self, told: ValidationInfo) -> "Format":
        if told.context and told.context.get("is_kept"):
            return self  # it was allowed when it was kept, and what was proved by it stays readable
        rates_hz = RATES_HZ.get(self.encoding)
        if rates_hz and self.sample_rate != "keep" and self.sample_rate not in rates_hz:
            known = ", ".join(str(rate_hz) for rate_hz in rates_hz)
            raise ValueError(f"sample_rate: {self.encoding} has no rate of {self.sample_rate}; it has {known}")
        channels, most = COUNT_OF.get(self.channels, 0), MOST_CHANNELS.get(self.encoding)
        if most and channels > most:
            raise ValueError(f"channels: {self.encoding} holds {most} at most, and {self.channels} has {channels}")
        return self


class Output(_Table):
    pick: Literal["all", "first_that_fits"] = "all"
    name: Annotated[str, Field(min_length=1, max_length=200)] = "{title}_{spec}"
    metadata: Literal["none", "tags", "all"] = "none"

    @field_validator("name")
    @classmethod
    def _stays_inside(cls, name: str) -> str:
        parts = name.replace("\\", "/").split("/")
        if ".." in parts or name.startswith(("/", "\\", "~")) or ":" in name or "\0" in name:
            raise ValueError("it leaves the output folder")
        if not parts[-1].strip():
            raise ValueError("it ends with a folder and names no file")
        return name

    @field_validator("name")
    @classmethod
    def _known_fields(cls, name: str) -> str:
        known = ", ".join(f"{{{field}}}" for field in NAME_FIELDS)
        try:
            fields = {field for _, field, _, _ in Formatter().parse(name) if field is not None}
        except ValueError as error:
            raise ValueError(f"its braces do not pair; {known} can stand in it") from error
        if not fields <= set(NAME_FIELDS):
            raise ValueError(f"only {known} can stand in it")
        return name


class Spec(_Table):
    """What a destination demands. `slug` is the file's name and no key of the file."""

    slug: str = ""
    spec: About
    loudness: Loudness | None = None
    limits: Limits = Limits()
    method: Method = Method()
    channels: Channels = Channels()
    formats: Annotated[tuple[Format, ...], Field(min_length=1, strict=False)]
    output: Output = Output()
    steps: AskedSteps = ()

    @model_validator(mode="after")
    def _steps_leave_all_else_as_it_is(self) -> "Spec":
        if self.method.allow != "steps":
            return self
        if self.steps:
            raise ValueError("method.allow: in whole steps the level of an MP3 alone is moved; nothing goes before")
        for each in self.formats:
            asked = (each.container, each.sample_rate, each.channels, each.bitrate_kbps)
            if asked != ("mp3", "keep", "keep", None):
                raise ValueError("method.allow: in whole steps an MP3 keeps its rate, its channels and its bit rate")
        return self


def parse_spec(toml_text: str, slug: str, is_kept: bool = False) -> Spec:
    """Read a spec from its TOML text. Raises SpecError naming the key and the reason on one line.

    is_kept: by an earlier version of ours, which may have allowed what is not allowed any more.
    """
    tables = parse_toml(toml_text, slug)
    if "slug" in tables:
        raise SpecError(f"{slug}: slug: no such key; the file's name is the slug")
    try:
        return Spec.model_validate({**tables, "slug": slug}, context={"is_kept": is_kept})
    except ValidationError as error:
        key, reason = _first_problem(error)
        if key.startswith("steps"):
            key, reason = problem_of(error)
        raise SpecError(f"{slug}: {_key_in_words(key)}: {reason}", key) from error


def _first_problem(error: ValidationError) -> tuple[str, str]:
    """Key and reason of what is said first: a key that does not exist may be the one that is missing elsewhere."""
    problems = sorted(error.errors(), key=lambda each: each["type"] != "extra_forbidden")
    problem = problems[0]
    # Of a key that may be of several kinds, the kind that was tried stands in the path too.
    key = ".".join(str(part) for part in problem["loc"] if isinstance(part, int) or _KEY.fullmatch(part))
    reason = {"extra_forbidden": "no such key", "missing": "is missing"}.get(problem["type"])
    text = reason or problem["msg"].removeprefix("Value error, ").replace("\n", " ")
    named, colon, rest = text.partition(": ")
    # What concerns several keys of a table says itself which one is wrong.
    says_key = colon and (not key or named in Format.model_fields)
    return (f"{key}.{named}".lstrip("."), rest) if says_key else (key, text)


_KEY = re.compile(r"(?!float$|int$)[a-z_0-9]+")


def _key_in_words(key: str) -> str:
    """Formats are counted as people count: formats.0.encoding is encoding of format 1."""
    table, _, rest = key.partition(".")
    number, _, name = rest.partition(".")
    if table != "formats" or not number.isdigit():
        return key
    return f"format {int(number) + 1}{f', {name}' if name else ''}"
