"""What steps heard in a source, kept beside what was measured: heard once, never changed."""

from nicelevel.core.errors import NotPreparedError
from nicelevel.core.steps import Chain, Found, FoundOf, Step
from nicelevel.core.steps.chain import recipe_digest

from .models import StepFound


def found_of(source_digest: str) -> FoundOf:
    """Gives what was heard in the source with this digest. Raises NotPreparedError."""

    def load(chain: Chain, step: Step) -> Found:
        row = StepFound.get_or_none(StepFound.digest == _digest(source_digest, chain, step))
        if row is None or step.finds is None:
            raise NotPreparedError("It is being listened to; its plan follows.")
        return step.finds.model_validate(row.found, strict=False)

    return load


def keeping_found(source_digest: str, listen: FoundOf) -> FoundOf:
    """The same, but what was not heard yet is heard now, and kept."""
    kept = found_of(source_digest)

    def find(chain: Chain, step: Step) -> Found:
        try:
            return kept(chain, step)
        except NotPreparedError:
            found = listen(chain, step)
            row = {
                "digest": _digest(source_digest, chain, step),
                "source_digest": source_digest,
                "found": found.model_dump(mode="json"),
            }
            StepFound.insert(**row).on_conflict_ignore().execute()
            return found

    return find


def forget_found(source_digest: str) -> None:
    """Forget what was heard in some contents."""
    StepFound.delete().where(StepFound.source_digest == source_digest).execute()


def _digest(source_digest: str, chain: Chain, step: Step) -> str:
    return recipe_digest(source_digest, (*chain.recipe, step))
