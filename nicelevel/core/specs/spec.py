"""The spec: tables and keys of the TOML file, each with its unit and range.

Anything unknown, of a wrong type or out of sense makes the spec broken: SpecError names the key and the reason.
"""

from string import Formatter
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from ..errors import SpecError
from ..toml import parse_toml
from ..values import LOSSY

Measure = Literal["integrated", "max_short_term", "rms", "sample_peak", "true_peak"]
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

_LOSSY_CONTAINERS = frozenset({"mp3", "ac3"})

MEASURE_UNITS = {
    "integrated": "LUFS",
    "max_short_term": "LUFS",
    "rms": "dBFS",
    "sample_peak": "dBFS",
    "true_peak": "dBTP",
}

NAME_FIELDS = ("title", "version", "spec", "rate", "bits", "codec", "channels", "lufs")
"""What a pattern of names may hold in braces."""

LONGEST_LOOK_AHEAD_MS = 20

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
    allow: Literal["gain", "limiter"] = "gain"
    max_limiting_db: Annotated[float, Field(ge=0.0, le=60.0, allow_inf_nan=False)] | None = None
    look_ahead_ms: Annotated[int, Field(ge=1, le=LONGEST_LOOK_AHEAD_MS)] = 5
    release_ms: Annotated[float, Field(ge=5.0, le=2_000.0, allow_inf_nan=False)] = 30.0
    soft_db: Annotated[float, Field(ge=0.0, le=12.0, allow_inf_nan=False)] = 0.0
    closing_fade_s: Annotated[float, Field(ge=0.0, le=60.0, allow_inf_nan=False)] | None = None


class Channels(_Table):
    centre_db: PeakDb = -3.0
    surround_db: PeakDb = -3.0
    lfe_db: PeakDb | Literal["off"] = "off"
    mono_law: Literal["half", "power", "left", "right"] | None = None


class Format(_Table):
    container: Container
    encoding: Encoding = "keep"
    sample_rate: Annotated[int, Field(ge=4_000, le=768_000)] | Literal["keep"] = "keep"
    channels: Literal["keep", "mono", "stereo", "5.1", "7.1"] = "keep"
    files: Literal["one", "per_channel"] = "one"
    dither: Literal["tpdf", "shaped", "none"] = "tpdf"
    bitrate_kbps: Positive | None = None
    bitrate_mode: Literal["constant", "variable"] = "constant"

    @model_validator(mode="after")
    def _container_holds_encoding(self) -> "Format":
        if self.encoding not in ENCODINGS_OF[self.container]:
            held = ", ".join(sorted(ENCODINGS_OF[self.container]))
            raise ValueError(f"{self.container} cannot hold {self.encoding}; it holds {held}")
        return self

    @model_validator(mode="after")
    def _single_channels_are_lossless(self) -> "Format":
        if self.files == "per_channel" and (self.container in _LOSSY_CONTAINERS or self.encoding in LOSSY):
            raise ValueError("a file per channel is written without loss; this encoding is lossy")
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


def parse_spec(toml_text: str, slug: str) -> Spec:
    """Read a spec from its TOML text. Raises SpecError naming the key and the reason on one line."""
    tables = parse_toml(toml_text, slug)
    if "slug" in tables:
        raise SpecError(f"{slug}: slug: no such key; the file's name is the slug")
    try:
        return Spec.model_validate({**tables, "slug": slug})
    except ValidationError as error:
        raise SpecError(f"{slug}: {_first_problem(error)}") from error


def _first_problem(error: ValidationError) -> str:
    problem = error.errors()[0]
    key = ".".join(str(part) for part in problem["loc"] if part not in ("float", "int", "literal['keep']"))
    reason = {"extra_forbidden": "no such key", "missing": "is missing"}.get(problem["type"])
    text = reason or problem["msg"].removeprefix("Value error, ").replace("\n", " ")
    return f"{key}: {text}"
