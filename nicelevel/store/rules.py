"""Rules for what comes into a job."""

from .models import IntakeRule


def rules_of(job_id: int) -> list[IntakeRule]:
    """In the order in which they were made: the first that fits a file is the one."""
    return list(IntakeRule.select().where(IntakeRule.job == job_id).order_by(IntakeRule.id))


def add_rule(
    job_id: int,
    recipe: str | None,
    kind: str | None = None,
    channels: str | None = None,
    name_has: str | None = None,
    mends: bool = False,
    renders: bool = False,
) -> IntakeRule:
    """recipe: the slug of one, None for none; conditions: None for any; mends: first; renders: at once, too."""
    row = {"job": job_id, "recipe": recipe, "kind": kind, "channels": channels, "name_has": name_has}
    rule: IntakeRule = IntakeRule.create(mends=mends, renders=renders, **row)
    return rule


def remove_rule(job_id: int, rule_id: int) -> None:
    IntakeRule.delete().where(IntakeRule.id == rule_id, IntakeRule.job == job_id).execute()
