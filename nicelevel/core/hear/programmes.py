"""What can be heard, any frames of it from anywhere: a file, a plan that is not rendered, what is left over of two.

A plan is computed by the steps of rendering itself, for the asked frames alone.
"""

import threading
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..channels import Layout, layout_of_name
from ..digest import seed_of
from ..errors import UnsupportedError
from ..files import open_sink, take_in
from ..files.blocks import Block
from ..files.read import Audio
from ..plan.limiter import Limited
from ..render import rendered_piece
from ..render.dither import Rounder
from ..scratch import ScratchFolder
from ..signals import Seekable
from ..stages.resample import resampled_window
from ..steps.fold import Fold
from ..steps.fold_matrix import fold_matrix
from ..units import ratio_from_db
from ..values import OutputFormat, Plan, Shape

Samples = NDArray[np.float64]
Finish = Literal["exact", "rounded", "coded"]
"""How a plan is heard: before the last rounding, rounded to its word length, or through its encoder."""

NoiseKind = Literal["none", "tpdf", "shaped"]

SHAPING_LEAD_FRAMES = 4096
"""Noise shaping is begun so long before: its error is that of a programme under way."""

RUN_S, LEAD_S, SEAM_S = 4, 2.0, 0.01
"""An encoder is heard in runs of so many seconds, begun so much earlier (that of AAC takes two seconds to settle its
rate); two runs meet in a seam of this length."""

AC3_DELAY_FRAMES = 256
"""ATSC A/52: a decoder's output is half a transform late, and a stream of AC-3 by itself has no place to say so."""

RUNS_KEPT = 6

FADE_S = 8.0
"""The end of a programme over which its rounding noise is heard in a fade-out."""


class FileProgramme:
    """A file as it is: a source, or what was written and is decoded.

    delay_frames: what an encoder put before the programme and the file cannot tell a decoder to skip.
    """

    def __init__(self, audio: Audio, delay_frames: int = 0) -> None:
        self._audio, self._delay_frames, self.shape = audio, delay_frames, audio.shape

    def window(self, first: int, last: int) -> Samples:
        late = self._delay_frames
        block = self._audio.window(first + late, min(self.shape.frames, last + late)).astype(np.float64)
        return np.pad(block, ((0, last - first - len(block)), (0, 0)))


class PlanProgramme:
    """What would be written by a plan. limited: what its limiter makes of the signal."""

    def __init__(self, audio: Audio, plan: Plan, limited: Limited | None, finish: Finish = "exact") -> None:
        self._audio, self._plan, self._limited, self._finish = audio, plan, limited, finish
        self.shape = plan.chain.shape

    def window(self, first: int, last: int) -> Samples:
        output = self._plan.output
        if self._finish == "rounded" and output.bits:
            return self._rounded(output, first, last)
        if self._finish == "coded" and output.is_lossy and not output.in_steps:
            return self._coded(first, last)
        return self._exact(first, last)

    def _exact(self, first: int, last: int) -> Samples:
        return rendered_piece(self._audio, self._plan, self._limited, first, last)

    def _rounded(self, output: OutputFormat, first: int, last: int) -> Samples:
        dithers = self._plan.dithers
        lead = min(first, SHAPING_LEAD_FRAMES) if dithers and output.dither == "shaped" else 0
        rounder = Rounder(output, dithers, seed_of(self._audio.source.path), first - lead)
        return to_ratios(rounder.round(self._exact(first - lead, last)), output)[lead:]

    def _coded(self, first: int, last: int) -> Samples:
        """From runs that an encoder has gone through, crossfaded where one run takes over from the one before."""
        length, seam = RUN_S * self.shape.rate_hz, round(SEAM_S * self.shape.rate_hz)
        parts = []
        for number in range(first // length, (last - 1) // length + 1):
            start = number * length
            begin, end = max(first, start), min(last, start + length)
            part = self._run(number)[begin - start : end - start].copy()
            over = min(start + seam, end) - begin
            if number and over > 0:
                before = self._run(number - 1)[length + begin - start :][:over]
                share = ((np.arange(over) + begin - start + 0.5) / seam)[:, None]
                part[:over] = share * part[:over] + (1.0 - share) * before
            parts.append(part)
        return np.concatenate(parts)

    def _run(self, number: int) -> Samples:
        """A run and the seam after it, as a decoder gives it. The latest are kept: whoever hears goes on in them."""
        key = self._audio.source.path, self._plan, number
        run = _runs.get(key)
        if run is None:
            rate_hz = self.shape.rate_hz
            start = number * RUN_S * rate_hz
            lead = min(start, round(LEAD_S * rate_hz))
            end = min(self.shape.frames, start + RUN_S * rate_hz + round((SEAM_S + LEAD_S) * rate_hz))
            run = through_encoder(self._exact(start - lead, end), self._plan.output)[lead:]
            with _keeping:
                _runs[key] = run
                while len(_runs) > RUNS_KEPT:
                    del _runs[next(iter(_runs))]
        return run


_runs: dict[tuple[Path, Plan, int], Samples] = {}
_keeping = threading.Lock()


def through_encoder(samples: Samples, output: OutputFormat) -> Samples:
    """What a decoder gives back of some frames × channels, of the same length."""
    with ScratchFolder() as folder:
        path = Path(folder) / "heard"
        sink = open_sink(path, output, len(samples))
        try:
            sink.write(samples)
        finally:
            sink.close()
        with take_in(path) as audio:
            return np.concatenate(list(audio.blocks(1 << 16))).astype(np.float64)


def to_ratios(codes: NDArray[np.int32], output: OutputFormat) -> Samples:
    """Samples of ±1.0 at full scale from the codes of a word length."""
    assert output.bits
    ratios: Samples = codes / 2.0 ** (output.bits - 1)
    return ratios


@dataclass(frozen=True)
class NoiseOf:
    """What the last rounding alone adds to a plan, in one of three ways; over its last seconds the plan fades out.

    A 16-bit word where the plan has none that is shorter.
    """

    plan: PlanProgramme
    output: OutputFormat
    kind: NoiseKind
    seed: int
    bits: int = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "bits", min(self.output.bits or 16, 16))

    @property
    def shape(self) -> Shape:
        return self.plan.shape

    def window(self, first: int, last: int) -> Samples:
        lead = min(first, SHAPING_LEAD_FRAMES) if self.kind == "shaped" else 0
        exact = self.plan.window(first - lead, last) * self._fade(first - lead, last)[:, None]
        words = OutputFormat("wav", f"pcm_{self.bits}", self.shape.rate_hz, self.shape.layout, self.kind)
        rounder = Rounder(words, self.kind != "none", self.seed, first - lead)
        return (to_ratios(rounder.round(exact), words) - exact)[lead:]

    def _fade(self, first: int, last: int) -> NDArray[np.float64]:
        """Half a cosine over the last seconds."""
        fade = max(1, min(self.shape.frames, round(FADE_S * self.shape.rate_hz)))
        into = np.clip((np.arange(first, last) + 0.5 - (self.shape.frames - fade)) / fade, 0.0, 1.0)
        gains: NDArray[np.float64] = 0.5 + 0.5 * np.cos(np.pi * into)
        return gains


@dataclass(frozen=True)
class DifferenceOf:
    """What is left over of one programme when another is taken away, each after its gain, for two loudspeakers."""

    one: Seekable
    other: Seekable
    gain_db: float
    other_gain_db: float

    @property
    def shape(self) -> Shape:
        return replace(self.one.shape, layout=layout_of_name("stereo"))

    def window(self, first: int, last: int) -> Samples:
        other = heard_piece(self.other, self.shape.rate_hz, first, last)
        one = for_two(self.one.window(first, last), self.one.shape.layout)
        return one * ratio_from_db(self.gain_db) - other * ratio_from_db(self.other_gain_db)


def heard_piece(programme: Seekable, rate_hz: int, first: int, last: int) -> Samples:
    """Frames × 2 at the rate of whoever plays, as two loudspeakers get them; silent beyond the end.

    At the programme's own rate every sample is what it is.
    """
    shape = programme.shape
    frames = -(-shape.frames * rate_hz // shape.rate_hz)
    inside = min(last, frames)
    if inside <= first:
        return np.zeros((last - first, 2))
    if rate_hz == shape.rate_hz:
        piece = programme.window(first, inside)
    else:
        piece = resampled_window(programme, rate_hz, first, inside)
    return np.pad(for_two(piece, shape.layout), ((0, last - inside), (0, 0)))


def for_two(block: Block, layout: Layout) -> Samples:
    """One channel by both loudspeakers, two as they are, more folded down; of unknown ones the first two."""
    samples = block.astype(np.float64, copy=False)
    if len(layout.positions) == 2:
        return samples
    try:
        matrix = fold_for_two(layout)
    except UnsupportedError:
        return samples[:, [0, min(1, samples.shape[1] - 1)]]
    return samples @ matrix.T


def fold_for_two(layout: Layout) -> NDArray[np.float64]:
    """2 × channels: what two loudspeakers get of each. Raises UnsupportedError where the layout is not known."""
    if len(layout.positions) == 2:
        return np.eye(2)
    return fold_matrix(layout, layout_of_name("stereo"), Fold(layout="stereo"))
