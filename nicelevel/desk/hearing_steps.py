"""What is heard of a recipe: a source as it came, after each of its steps, and prepared.

All of them lie on the time of what is prepared: what later steps take out is skipped in each. So they are switched on
the same sample, and what is left over of two is what the steps between them did.
"""

from nicelevel.core.hear import HeardLevel, heard_lufs, matched_gains_db, real_gains_db
from nicelevel.core.measure.gating import gating_blocks, integrated_lufs
from nicelevel.core.steps import Chain
from nicelevel.core.steps.hops import Hops
from nicelevel.core.units import db_from_ratio
from nicelevel.store.audio import AudioFolder
from nicelevel.store.models import Source
from nicelevel.store.readings import load_reading

from .contents import Contents, contents_of
from .hearing import Audible, stages_after
from .hearing_sheet import Heard, HearingSheet, playable_rate

MOST_SHOWN = 4
"""Of more steps those in the middle are heard from a list, or by the key of their row."""


def steps_sheet(source: Source, audio: AudioFolder) -> HearingSheet:
    """What is heard on the Prepare screen.

    Raises NotPreparedError where somebody has to listen first, and as steps do.
    """
    contents = contents_of(source)
    chain = contents.resolved(contents.recipe, audio)
    hops = Hops.of(load_reading(source.digest, audio))
    last = len(chain.done)
    order = range(last + 1) if last <= MOST_SHOWN else (0, last, *range(1, last))
    takes = [_take(source, contents, chain, done, hops) for done in order]
    levels = [take.level for take in takes]
    heard = tuple(map(Heard, takes, matched_gains_db(levels), real_gains_db(levels)))
    return HearingSheet(source, None, playable_rate(chain.shape.rate_hz), chain.shape.duration_s, heard, ())


def _take(source: Source, contents: Contents, chain: Chain, done: int, hops: Hops) -> Audible:
    is_all, stages = done == len(chain.done), stages_after(chain, done)
    for stage in stages:
        hops = hops.after(stage)
    layout = stages[-1].after.layout if stages else chain.before.layout
    lufs = integrated_lufs(gating_blocks(hops.energies))
    level = HeardLevel(heard_lufs(lufs, layout), db_from_ratio(float(hops.peaks.max(initial=0.0))))
    name = "As it came" if not done else "Prepared" if is_all else f"After {done}"
    detail = chain.done[done - 1].step.wish if done else "without what is taken out later"
    return Audible(
        f"step-{source.id}-{done}",
        "plan" if is_all and done else "source",
        name,
        detail,
        level,
        chain.shape.rate_hz,
        chain.shape.duration_s,
        contents.name_of_chain(chain)[:16],
        is_here=len(chain.done) <= MOST_SHOWN or done in (0, len(chain.done)),
    )
