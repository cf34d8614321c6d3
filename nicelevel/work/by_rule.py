"""What came into a job is rendered by itself where a rule says so."""

from nicelevel.config import Config
from nicelevel.core.errors import NotPreparedError
from nicelevel.desk.proposals import proposals
from nicelevel.desk.sides import asked_sides
from nicelevel.store.audio import AudioFolder
from nicelevel.store.database import persistently
from nicelevel.store.jobs import destinations_of
from nicelevel.store.models import Destination, Source
from nicelevel.store.sources import find_source, sources_of
from nicelevel.store.specs import spec_of

from .enqueue import enqueue_renders
from .tasks import prepare_all
from .trying import Call, ending, task


def _give_up(config: Config, code: str, sentence: str, source_id: int) -> None:
    """Its row says what is there; it can be rendered by hand."""


@task(_give_up)
def render_by_rule(call: Call, source_id: int) -> None:
    """Queue all that lands of a source, once what its plans are made from is there."""
    source, audio = find_source(source_id), AudioFolder(call.config.audio_folder)
    if source is None or source.state != "measured" or source.trashed_at or _may_be_of_a_set(source, audio):
        return
    for destination in destinations_of(source.job_id):
        # What cannot be rendered says so on its row.
        with ending(call, lambda code, sentence: True, lambda: True, can_pass=True):
            _render_at(call, source, destination, audio)


def _render_at(call: Call, source: Source, destination: Destination, audio: AudioFolder) -> None:
    try:
        enqueue_renders(source, destination, audio)
    except NotPreparedError:
        prepare_all(call, source, spec_of(destination.spec), audio)
        persistently(lambda: enqueue_renders(source, destination, audio))


def _may_be_of_a_set(source: Source, audio: AudioFolder) -> bool:
    """Whether it is part of a set, or of what nobody has answered yet: it is not rendered alone then."""
    if source.leader_id is not None:
        return True
    others = sources_of(source.job_id)
    asked = [each.sources for each in proposals(others, audio)]
    asked += [each.sources for each in asked_sides(others, audio)]
    return any(source.id == each.id for sources in asked for each in sources)
