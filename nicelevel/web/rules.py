"""What is done to everything that comes into a job: a page of rules."""

from collections.abc import Mapping
from typing import Any

from flask import Blueprint, jsonify, render_template, request

from nicelevel.core.errors import SpecError
from nicelevel.desk.recipes import prepare_by_rules
from nicelevel.report.rule_words import CHANNELS, KINDS, NO_RECIPE, rule_line
from nicelevel.store.models import IntakeRule
from nicelevel.store.recipes import find_recipe, known_recipes
from nicelevel.store.rules import add_rule, remove_rule, rules_of
from nicelevel.store.sources import rule_again, sources_of
from nicelevel.store.undo import changing
from nicelevel.work.enqueue import enqueue_preparations
from nicelevel.work.tasks import defer_rendering_by_rule

from .found import audio, job_or_404

rules = Blueprint("rules", __name__, url_prefix="/jobs/<int:job_id>/rules")


@rules.get("/")
def index(job_id: int) -> Any:
    """The rules for what comes into a job."""
    job = job_or_404(job_id)
    named = {slug: known.name for slug, known in known_recipes().items()}
    found = [(rule, _line(rule, named)) for rule in rules_of(job_id)]
    plain = sum(source.state == "measured" and source.recipe_name is None for source in sources_of(job_id))
    return render_template(
        "recipes/rules.html",
        job=job,
        found=found,
        named=named,
        kinds=KINDS,
        channels=CHANNELS,
        no_recipe=NO_RECIPE,
        plain=plain,
    )


def _line(rule: IntakeRule, named: Mapping[str, str]) -> str:
    """named: the names of recipes by their slugs."""
    recipe = named.get(rule.recipe, "a recipe that was deleted") if rule.recipe else None
    return rule_line(rule.channels, rule.kind, rule.name_has, recipe, rule.mends, rule.renders)


@rules.post("/")
def add(job_id: int) -> Any:
    """One more: conditions that are empty hold for any file."""
    job_or_404(job_id)
    told = {key: request.form.get(key, "").strip() or None for key in ("kind", "channels", "name_has", "recipe")}
    if told["kind"] not in KINDS or told["channels"] not in CHANNELS:
        raise SpecError("A rule goes by the kind, the channels and the name of a file.")
    if len(told["name_has"] or "") > 100:
        raise SpecError("What a name must have is 100 letters at most.")
    if told["recipe"]:
        find_recipe(told["recipe"])
    with changing("added a rule for what comes in", job_id):
        add_rule(job_id, mends="mends" in request.form, renders="renders" in request.form, **told)
    return jsonify(rules=len(rules_of(job_id)))


@rules.post("/<int:rule_id>/remove")
def remove(job_id: int, rule_id: int) -> Any:
    """Take a rule away."""
    job_or_404(job_id)
    with changing("took a rule for what comes in away", job_id):
        remove_rule(job_id, rule_id)
    return jsonify(rules=len(rules_of(job_id)))


@rules.post("/apply")
def apply(job_id: int) -> Any:
    """Have the rules hold for what is here already and has no recipe."""
    job_or_404(job_id)
    plain = [each for each in sources_of(job_id) if each.state == "measured" and each.recipe_name is None]
    with changing("had the rules hold for what is here", job_id):
        rendered = [source for source in plain if prepare_by_rules(rule_again(source), audio())]
    enqueue_preparations(job_id, audio(), [source.id for source in plain])
    for source in rendered:
        defer_rendering_by_rule(source)
    return jsonify(sources=len(plain))
