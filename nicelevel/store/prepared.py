"""Prepared signals as rows: still to be made, there, or why they could not be made."""

from nicelevel.core.steps import Recipe, recipe_from_json, recipe_to_json

from .models import Preparing


def begin_preparation(digest: str, source_digest: str, recipe: Recipe) -> None:
    """Keep that a prepared signal is to be made, again where it failed."""
    fresh = {"state": "queued", "error_code": None, "error_message": None}
    row = {"digest": digest, "source_digest": source_digest, "steps": recipe_to_json(recipe), **fresh}
    Preparing.insert(**row).on_conflict(conflict_target=[Preparing.digest], update=fresh).execute()


def end_preparation(digest: str, error_code: str | None = None, error_message: str | None = None) -> None:
    """Keep that a prepared signal is there, or why it is not."""
    state = "failed" if error_code else "done"
    row = {"state": state, "error_code": error_code, "error_message": error_message}
    Preparing.update(**row).where(Preparing.digest == digest).execute()


def forget_preparation(digest: str) -> None:
    """Nobody asks any more for a prepared signal that is still to be made."""
    Preparing.delete().where(Preparing.digest == digest, Preparing.state == "queued").execute()


def failed_preparations(source_digest: str) -> list[Recipe]:
    """What could not be made of some contents."""
    query = Preparing.select().where(Preparing.source_digest == source_digest, Preparing.state == "failed")
    return [recipe_from_json(row.steps) for row in query]


def why_not_prepared(digest: str) -> str | None:
    """Why a prepared signal could not be made; None where nothing went wrong."""
    failed = Preparing.get_or_none(Preparing.digest == digest, Preparing.state == "failed")
    return None if failed is None else str(failed.error_message)
