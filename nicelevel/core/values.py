"""The nouns of Nice Level: frozen values, units in their names.

Levels are in dB; a level of nothing is minus infinity. None means that a figure does not exist
for this file (a range of two seconds, a word length of a floating-point file).
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from .channels import Layout, layout_of
from .units import seconds_from_frames

if TYPE_CHECKING:
    from .steps import Chain, Recipe

Place = tuple[float, float]
"""Start and end in seconds."""

Action = Literal["as_is", "gain", "limit", "cannot_meet"]


PeakKind = Literal["true_peak", "sample_peak"]


ESTIMATE_RATIO = 0.1
"""A size that is an estimate may be off by so much."""


@dataclass(frozen=True)
class Shape:
    """What is known of a signal before any of it is computed: exact."""

    rate_hz: int
    layout: Layout
    frames: int

    @property
    def channels(self) -> int:
        return len(self.layout.positions)

    @property
    def duration_s(self) -> float:
        return seconds_from_frames(self.frames, self.rate_hz)

    def with_channels(self, channels: Sequence[int]) -> "Shape":
        """The same with some of its channels, by number; one of them is mono, whatever its place was."""
        return replace(self, layout=layout_of(self.layout, channels))

    def like(self, other: "Shape") -> "Shape":
        """The same rate and length with the channels of another."""
        return replace(self, layout=other.layout)


@dataclass(frozen=True)
class Source:
    """An audio file as its header describes it; it is never changed.

    size_is_estimate: of a file not written yet, that its contents may still move its size by a tenth. recipe: steps
    that stand before all that a destination asks for; layout, rate and length are then those after them. dialnorm_db:
    the level of its dialogue as the file itself states it, where it does.
    """

    path: Path
    size_bytes: int | None
    container: str
    encoding: str
    sample_rate_hz: int
    layout: Layout
    frames: int
    bits_declared: int | None
    bitrate_kbps: float | None = None
    size_is_estimate: bool = False
    recipe: "Recipe" = ()
    dialnorm_db: int | None = None

    @property
    def shape(self) -> Shape:
        return Shape(self.sample_rate_hz, self.layout, self.frames)

    @property
    def channels(self) -> int:
        return len(self.layout.positions)

    @property
    def duration_s(self) -> float:
        return seconds_from_frames(self.frames, self.sample_rate_hz)

    @property
    def mean_kbps(self) -> float | None:
        """Mean bit rate; for uncompressed audio what its file takes; None where that is not known yet."""
        if self.bitrate_kbps or self.size_bytes is None:
            return self.bitrate_kbps
        return self.size_bytes * 8 / self.duration_s / 1000

    @property
    def is_float(self) -> bool:
        return self.encoding.startswith("float")


@dataclass(frozen=True)
class Curves:
    """What was kept of every hop of 10 ms: enough for any loudness, and for drawing.

    `energies`: float64, K-weighted mean square summed over channels with their weights.
    `squares`: float64, plain mean square, mean of all channels but LFE.
    `peaks`: float32, largest absolute sample of any channel; one more where the file ends inside a hop.
    `correlations`: float32, of the two channels in every tenth of a second, NaN where one is silent; else empty.
    `spectrum`: float32, long-term mean power of each bin from 0 to half the rate; empty for short files.
    `autocorrelations`: float64, of pieces spread over the file: see `measure/prediction.py`.
    """

    energies: NDArray[np.float64]
    squares: NDArray[np.float64]
    peaks: NDArray[np.float32]
    correlations: NDArray[np.float32]
    spectrum: NDArray[np.float32]
    autocorrelations: NDArray[np.float64]


@dataclass(frozen=True)
class Note:
    """Something an engineer should look at, the sentence that says why, and the places it speaks of."""

    code: str
    sentence: str
    places: tuple[Place, ...] = ()


@dataclass(frozen=True)
class Reading:
    """All that was measured of a file, or is predicted of one not written yet.

    dialogue_lufs: loudness of what is spoken, where somebody listened for that; minus infinity where nobody speaks.
    """

    source: Source
    integrated_lufs: float
    loudness_range_lu: float | None
    max_momentary_lufs: float
    max_short_term_lufs: float
    true_peak_per_channel_dbtp: tuple[float, ...]
    sample_peak_dbfs: float
    min_sample: float
    max_sample: float
    rms_dbfs: float
    dc_offset: tuple[float, ...]
    clipped_samples: int
    silence_head_s: float
    silence_tail_s: float
    correlation: float | None
    mono_kind: str | None
    bits_used: int | None
    notes: tuple[Note, ...] = ()
    dialogue_lufs: float | None = None
    curves: Curves = field(repr=False, compare=False, default_factory=lambda: _no_curves())

    @property
    def true_peak_dbtp(self) -> float:
        return max(self.true_peak_per_channel_dbtp)

    @property
    def plr_lu(self) -> float | None:
        """Peak to loudness: true peak minus integrated loudness."""
        if np.isinf(self.integrated_lufs) or np.isinf(self.true_peak_dbtp):
            return None
        return self.true_peak_dbtp - self.integrated_lufs

    @property
    def level_to_state_lufs(self) -> float:
        """What a stream is to state as the level of its dialogue: that of speech where there is any that is known."""
        is_spoken = self.dialogue_lufs is not None and not np.isinf(self.dialogue_lufs)
        return self.dialogue_lufs if self.dialogue_lufs is not None and is_spoken else self.integrated_lufs

    def without_curves(self) -> "Reading":
        """The same figures without the curves: what is kept in numbers."""
        return replace(self, curves=_no_curves())

    def with_notes(self, notes: tuple[Note, ...]) -> "Reading":
        """The same reading with its notes."""
        return replace(self, notes=notes)


def _no_curves() -> Curves:
    doubles, singles = np.empty(0, np.float64), np.empty(0, np.float32)
    return Curves(doubles, doubles, singles, singles, singles, np.empty((0, 0, 0)))


@dataclass(frozen=True)
class Finding:
    """One rule of a spec against one file.

    `required` is a number, a pair (lowest, highest) or a tuple of choices; `text` says it for a person.
    """

    rule: str
    required: Any
    found: Any
    meets: bool
    text: str


@dataclass(frozen=True)
class Verdict:
    """All findings of a file against a spec."""

    findings: tuple[Finding, ...]

    @property
    def meets(self) -> bool:
        return all(finding.meets for finding in self.findings)


LOSSY = frozenset({"mp3", "aac", "vorbis", "opus", "ac3"})


@dataclass(frozen=True)
class OutputFormat:
    """The format of one deliverable, with every "keep" of the spec resolved for its source.

    `encoding` of what is packed without loss is that of its words; `lossless` names the packing, flac or alac.
    Of a file per channel: `part_of` is the layout of the programme, `channel` the number of this one in it.
    nominal_kbps: what an encoder without constant bit rates is set to, so that it comes to the one that is asked for.
    dialnorm_db: the level of dialogue that the file is to state; None for what is measured.
    in_steps: whether the level is moved inside the coded file, in whole steps, and nothing is encoded anew.
    format_key: names the format of the spec that this came of; programme: the number of what it holds of its source.
    """

    container: str
    encoding: str
    sample_rate_hz: int
    layout: Layout
    dither: str
    bitrate_kbps: float | None = None
    bitrate_mode: str = "constant"
    lossless: str | None = None
    part_of: Layout | None = None
    channel: int | None = None
    nominal_kbps: float | None = None
    dialnorm_db: int | None = None
    format_key: str = ""
    programme: int = 1
    in_steps: bool | None = None

    @property
    def key(self) -> str:
        """How this file is known among all that a spec makes of a source: by programme, format and channel."""
        return f"{self.programme} · {self.format_key}" + ("" if self.channel is None else f" · {self.channel + 1}")

    @property
    def of_all_channels(self) -> "OutputFormat":
        """The same format for the programme in one file."""
        return replace(self, layout=self.part_of or self.layout, part_of=None, channel=None)

    @property
    def channel_name(self) -> str | None:
        """The position of the one channel that the file holds of its programme, or its number from 1."""
        if self.part_of is None or self.channel is None:
            return None
        return self.part_of.positions[self.channel] or str(self.channel + 1)

    @property
    def is_lossy(self) -> bool:
        return self.encoding in LOSSY

    @property
    def coding(self) -> str:
        """The codec: of what is packed without loss the packing, else the encoding."""
        return self.lossless or self.encoding

    @property
    def coding_name(self) -> str:
        """As people write it."""
        return {"vorbis": "Vorbis", "opus": "Opus", "ac3": "AC-3"}.get(self.coding, self.coding.upper())

    @property
    def bits(self) -> int | None:
        """Word length, None for floating point and for lossy encodings, which have none."""
        return int(self.encoding.rpartition("_")[2]) if self.encoding.startswith("pcm") else None


@dataclass(frozen=True)
class Limiter:
    """How a limiter is set: the ceiling and the peaks it is for, and how it moves."""

    ceiling_db: float
    kind: PeakKind = "true_peak"
    look_ahead_ms: int = 5
    release_ms: float = 30.0
    soft_db: float = 0.0


@dataclass(frozen=True)
class Limiting:
    """What a limiter does to a programme: deepest reduction, share of its time, and the places."""

    limiter: Limiter
    depth_db: float
    share_ratio: float
    places: tuple[Place, ...]


@dataclass(frozen=True)
class Plan:
    """How one source lands at one destination in one format.

    `predicted` is the reading that the written file will have, without its curves; `dithers` says whether the word
    length falls; `programme` is, of a file per channel, the plan of all channels together. curve_of: the steps to the
    signal whose limiter's curve this one takes, of the set's leader or of all channels; None where it has its own.
    """

    action: Action
    gain_db: float
    limiting: Limiting | None
    predicted: Reading
    verdict: Verdict
    reasons: tuple[str, ...]
    output: OutputFormat
    chain: "Chain"
    dithers: bool
    programme: "Plan | None" = None
    curve_of: "Recipe | None" = None

    @property
    def shown(self) -> "Plan":
        """What people look at: the programme, also where it is written as a file per channel."""
        return self.programme or self

    @property
    def recipe_of_programme(self) -> "Recipe":
        """The steps of all channels together, also of a file per channel."""
        return self.chain.recipe if self.output.channel is None else self.chain.recipe[:-1]

    @property
    def limiting_db(self) -> float:
        """The deepest gain reduction."""
        return self.limiting.depth_db if self.limiting else 0.0


@dataclass(frozen=True)
class Proof:
    """The reading of a written file against its spec, rule by rule."""

    reading: Reading
    verdict: Verdict
    sha256: str


@dataclass(frozen=True)
class Deliverable:
    """A written file with the plan it came from and its proof.

    asked: the plan that was begun with; where an encoder had to be made up for, it was encoded in several rounds.
    kept, dropped: what it says of what its source said about itself, and what it does not.
    """

    path: Path
    plan: Plan
    proof: Proof
    asked: Plan
    rounds: int = 1
    kept: tuple[str, ...] = ()
    dropped: tuple[str, ...] = ()
