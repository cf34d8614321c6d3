"""Gain and limiter together: the gain whose limited programme sits on the target.

The loudness after limiting is computed from the hops. The gain is found in steps, each of which costs a few
milliseconds for ten minutes of audio. The first guess is an estimate: blocks of 160 ms are lowered as a whole by what
their peak passes the ceiling; one exact step measures the loss, and the estimate is scaled by the measured over the
estimated loss. Only blocks whose peak passes the ceiling are computed.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from ..measure.gating import (
    MOMENTARY_HOPS,
    SHORT_TERM_HOPS,
    integrated_lufs,
    loudest_lufs,
)
from ..measure.hop_peaks import KEPT_DB
from ..prepare import Measured
from ..specs import Spec
from ..speech import spoken_lufs
from ..units import db_from_energy
from ..values import Limiter, Limiting, PeakKind, Plan
from .limiter import AfterCurve, Envelope, Limited

HELD_BY_LIMITER = frozenset({"max_true_peak_dbtp", "max_sample_peak_dbfs", "full_scale"})
"""The ceilings that a limiter can hold."""

LIMITED_MEASURES = frozenset({"integrated", "dialogue", "max_short_term", "rms"})
"""The measures that can be brought to a target by a limiter; a peak is brought there by gain."""

MARGIN_DB = 0.02
"""The curve is made for a ceiling so much lower: true peaks of single hops may be read that much too low."""

CLOSE_LU, MOST_STEPS = 0.003, 12
"""The search ends within this of the target, or after so many steps."""

LEAST_DB = 1e-4
"""The deepest limiting stays so far under what is allowed: nodes are kept in single precision."""

SHORT_STEP, SHORT_DB = 0.25, 0.05
"""A step is short that is less than this share of the last one, and less than this."""

LEAST_SLOPE = 0.05
"""The slope (loudness gained per dB of gain) is treated as at least this, which bounds the length of a step."""


@dataclass(frozen=True)
class Solution:
    """A gain and what the limiter makes of it; `short_db` is what is missing to the target (less than 0: over it)."""

    gain_db: float
    limiter: Limiter
    limited: Limited
    short_db: float
    meets: bool

    def limiting(self) -> Limiting:
        limited = self.limited
        return Limiting(self.limiter, limited.depth_db, limited.share_ratio, limited.places())


def limiter_for(spec: Spec, ceilings: Mapping[str, float]) -> Limiter:
    """The limiter that holds all of some ceilings, named by their rules, in the way a spec asks for."""
    held = {name: level for name, level in ceilings.items() if name in HELD_BY_LIMITER}
    kind: PeakKind = "true_peak" if "max_true_peak_dbtp" in held else "sample_peak"
    method = spec.method
    return Limiter(min(held.values()) - MARGIN_DB, kind, method.look_ahead_ms, method.release_ms, method.soft_db)


def limit_to_target(
    measured: Measured,
    spec: Spec,
    ceilings: Mapping[str, float],
    wanted_db: float,
    most_limiting_db: float | None = None,
) -> Solution:
    """The solution that sits on the target, or as near to it as may be limited.

    ceilings: in dB by the names of their rules; wanted_db: the gain that would reach the target without a limiter;
    most_limiting_db: the deepest reduction, the spec's where it is left out.
    """
    limiter = limiter_for(spec, ceilings)
    envelope = envelope_of(measured, limiter)
    deepest_db = allowed_depth_db(spec, limiter, most_limiting_db) - LEAST_DB
    highest_gain_db = limiter.ceiling_db + deepest_db - envelope.highest_db
    search = _Search(measured, spec, envelope, limiter)
    gain_db, limited = search.to_target(wanted_db, highest_gain_db)
    gain_db, limited = search.under_other_ceilings(gain_db, limited)
    short_db = search.short_db(limited.left)
    assert spec.loudness
    return Solution(gain_db, limiter, limited, short_db, abs(short_db) <= spec.loudness.tolerance + CLOSE_LU)


def allowed_depth_db(spec: Spec, limiter: Limiter, most_limiting_db: float | None = None) -> float:
    """How deep a limiter may reduce: as the spec says, or as far as peaks are kept. most_limiting_db: see above."""
    most_db = spec.method.max_limiting_db if most_limiting_db is None else most_limiting_db
    return min(KEPT_DB if most_db is None else most_db, KEPT_DB - limiter.soft_db)


def envelope_of(measured: Measured, limiter: Limiter) -> Envelope:
    """A prepared signal as a limiter sees it."""
    assert measured.hops
    return Envelope(measured.hops, measured.reading, limiter.kind)


def limited_by(measured: Measured, plan: Plan) -> Limited | None:
    """What a plan's limiter makes of its prepared signal, the gain curve with it; None where nothing is limited."""
    if plan.limiting is None:
        return None
    return envelope_of(measured, plan.limiting.limiter).limited(plan.gain_db, plan.limiting.limiter)


@dataclass(frozen=True)
class _Search:
    measured: Measured
    spec: Spec
    envelope: Envelope
    limiter: Limiter

    def short_db(self, left: AfterCurve) -> float:
        """What is missing to the target in the measure that the spec names."""
        assert self.spec.loudness
        return self._target() - level_after(self.spec.loudness.measure, self.measured, left)

    def _target(self) -> float:
        assert self.spec.loudness
        return self.spec.loudness.target_for(self.measured.reading.source.channels)

    def to_target(self, unlimited_db: float, highest_gain_db: float) -> tuple[float, Limited]:
        """The gain that sits on the target: the first step by the scaled estimate, the next ones by secant.

        unlimited_db: the gain that would reach the target without a limiter; highest_gain_db: the gain at which the
        limiter would reach its greatest allowed depth.

        Where the search ends depends on where it begins, by some thousandths of a LU: so it begins at what signal and
        spec alone say, never at what other plans found.
        """
        guess_db = self.envelope.about_gain_db(unlimited_db, self.limiter.ceiling_db)
        gain_db = min(guess_db, highest_gain_db)
        left = self.envelope.left(gain_db, self.limiter)
        short_db = self.short_db(left)
        more_db, best = 0.0, (abs(short_db), gain_db, left)
        if abs(short_db) >= CLOSE_LU:
            more_db = self._more_db(gain_db, short_db, unlimited_db)
        before: AfterCurve | None = None
        for _ in range(MOST_STEPS):
            next_db = min(gain_db + more_db, highest_gain_db)
            if abs(short_db) < CLOSE_LU or next_db == gain_db:
                break
            before, left = left, self._left(next_db, left, before)
            next_short_db = self.short_db(left)
            slope = max(LEAST_SLOPE, (short_db - next_short_db) / (next_db - gain_db))
            gain_db, short_db, more_db = next_db, next_short_db, next_short_db / slope
            # More gain can lower the integrated loudness, where it lifts quiet passages over the relative gate.
            best = min(best, (abs(short_db), gain_db, left), key=lambda each: each[0])
        return best[1], self.envelope.finished(best[2])

    def _left(self, gain_db: float, last: AfterCurve, before: AfterCurve | None) -> AfterCurve:
        """The signal after limiting; after a step much shorter than the last one by linear extrapolation.

        last, before: what the two steps before gave, the latest first.
        """
        if before and before.is_computed and last.is_computed:
            step_db, last_step_db = gain_db - last.gain_db, last.gain_db - before.gain_db
            if abs(step_db) < SHORT_STEP * abs(last_step_db) and abs(step_db) < SHORT_DB:
                return self.envelope.left_in_line(gain_db, self.limiter, before, last)
        return self.envelope.left(gain_db, self.limiter)

    def _more_db(self, gain_db: float, short_db: float, unlimited_db: float) -> float:
        """How much more gain makes up for what is missing, by the loss to the limiter as it was measured.

        gain_db, short_db: of the step before, and what it missed the target by; unlimited_db: the gain that would
        reach the target without a limiter.
        """
        most_db, lost_db = abs(short_db) / LEAST_SLOPE, gain_db - (unlimited_db - short_db)
        nearer_db = self.envelope.nearer_gain_db(unlimited_db, self.limiter.ceiling_db, gain_db, lost_db)
        more_db = nearer_db - gain_db
        # Where every block is limited already the estimate says nothing: then the longest step is taken.
        if more_db * short_db <= 0.0:
            return math.copysign(most_db, short_db)
        return max(-most_db, min(most_db, more_db))

    def under_other_ceilings(self, gain_db: float, limited: Limited) -> tuple[float, Limited]:
        """Down until the loudest 400 ms and 3 s are where the spec wants them."""
        for _ in range(MOST_STEPS):
            over_db = self._over_db(limited)
            if over_db <= 0.0:
                break
            gain_db -= over_db
            limited = self.envelope.limited(gain_db, self.limiter)
        return gain_db, limited

    def _over_db(self, limited: Limited) -> float:
        limits, energies = self.spec.limits, limited.left.energies
        asked = ((limits.max_momentary_lufs, MOMENTARY_HOPS), (limits.max_short_term_lufs, SHORT_TERM_HOPS))
        return max(
            (loudest_lufs(energies, hops) - limit for limit, hops in asked if limit is not None), default=-math.inf
        )


def level_after(measure: str, measured: Measured, left: AfterCurve) -> float:
    """The level that is left after limiting, in one of LIMITED_MEASURES."""
    if measure == "rms":
        before = float(measured.reading.curves.squares.sum())
        ratio = float(left.squares.sum()) / before if before > 0.0 else 1.0
        return measured.reading.rms_dbfs + db_from_energy(ratio)
    if measure == "max_short_term":
        return loudest_lufs(left.energies, SHORT_TERM_HOPS)
    if measure == "dialogue":
        return spoken_lufs(left.blocks, measured.speech or ())
    return integrated_lufs(left.blocks)
