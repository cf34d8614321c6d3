"""The HTTP interface as OpenAPI 3.1, read off the code: addresses from their rules, words from docstrings, fields
and answers from what the functions read and give.

What a function asks of a form or a query stands in it, or in one of ours that it calls, as a constant; so does what
it gives as JSON. Nothing is declared a second time, so nothing can be forgotten.
"""

import ast
import inspect
import re
import textwrap
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
from importlib.metadata import version
from types import FunctionType
from typing import Any

from flask import Blueprint, Flask, Response, current_app, jsonify, render_template

from .gate import OPEN, right_for
from .security import SAFE_METHODS

openapi = Blueprint("openapi", __name__)

Json = dict[str, Any]

TYPES = {"int": "integer", "float": "number"}
CONVERTERS = {"IntegerConverter": {"type": "integer"}, "PathConverter": {"type": "string"}}
READS = {"form": "form", "args": "query"}
BINARY = "application/octet-stream"
DEEPEST = 4
"""Functions that call functions: what is asked for stands at most so far down."""

_ERROR = {
    "type": "object",
    "required": ["error"],
    "properties": {
        "error": {
            "type": "object",
            "required": ["code", "message"],
            "properties": {
                "code": {"type": "string", "description": "for programs"},
                "message": {"type": "string", "description": "one sentence for people"},
                "key": {"type": "string", "description": "the field that is wrong, where one is"},
            },
        }
    },
}


@dataclass
class Told:
    """What a function says of itself: fields that it reads by where they come from, what it answers with."""

    form: dict[str, str] = field(default_factory=dict)
    query: dict[str, str] = field(default_factory=dict)
    answers: set[str] = field(default_factory=set)
    mimetypes: set[str] = field(default_factory=set)
    reads_body: bool = False
    gives_json: bool = False
    draws: bool = False
    is_open: bool = False
    """Whether it reads fields by names that only the caller knows."""


@openapi.get("/api.json")
def document() -> Response:
    """This interface, as OpenAPI 3.1."""
    return jsonify(document_of(current_app))


@openapi.get("/api")
def page() -> str:
    """This interface, to be read."""
    told = document_of(current_app)
    groups: dict[str, list[tuple[str, str, Json]]] = {}
    for path, methods in told["paths"].items():
        for method, each in methods.items():
            groups.setdefault(each["tags"][0], []).append((path, method.upper(), each))
    return render_template("house/api.html", groups=groups, version=told["info"]["version"])


def document_of(app: Flask) -> Json:
    """All addresses of an application."""
    paths: dict[str, Json] = {}
    for rule in sorted(app.url_map.iter_rules(), key=lambda rule: (rule.rule, rule.endpoint)):
        if rule.endpoint == "static":
            continue
        path = re.sub(r"<(?:[^:<>]+:)?([^<>]+)>", r"{\1}", rule.rule)
        for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"} or {"HEAD"}):
            paths.setdefault(path, {})[method.lower()] = _operation(app, rule, method)
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Nice Level",
            "version": version("nice-level"),
            "description": "Everything that the pages do. Sign in with a token: `Authorization: Bearer nl_…`. "
            "Ask for JSON with `Accept: application/json`.",
        },
        "paths": paths,
        "components": {
            "schemas": {"Error": _ERROR},
            "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}},
        },
    }


def _operation(app: Flask, rule: Any, method: str) -> Json:
    view = app.view_functions[rule.endpoint]
    told, words = told_by(view), inspect.getdoc(view) or ""
    operation: Json = {
        "operationId": f"{rule.endpoint}.{method.lower()}".replace(".", "_"),
        "tags": [rule.endpoint.partition(".")[0]],
        "summary": words.partition("\n")[0],
        "parameters": _parameters(rule, told if method in SAFE_METHODS else Told(query=told.query)),
        "responses": _responses(told),
    }
    if len(words.splitlines()) > 1:
        operation["description"] = words
    if rule.endpoint in OPEN or rule.endpoint.startswith("clients."):
        operation["security"] = []
    else:
        operation["security"] = [{"token": []}]
        operation["x-right"] = right_for(rule.endpoint, method)
    if method not in SAFE_METHODS and (body := _body(told)):
        operation["requestBody"] = body
    return operation


def _parameters(rule: Any, told: Told) -> list[Json]:
    named = [
        {
            "name": name,
            "in": "path",
            "required": True,
            "schema": CONVERTERS.get(type(kind).__name__, {"type": "string"}),
        }
        for name, kind in sorted(rule._converters.items())
    ]
    asked = [{"name": name, "in": "query", "schema": _schema(kind)} for name, kind in sorted(told.query.items())]
    return named + asked


def _body(told: Told) -> Json | None:
    content: Json = {}
    if told.form or told.is_open:
        properties = {name: _schema(kind) for name, kind in sorted(told.form.items())}
        form: Json = {"type": "object", "properties": properties}
        if not told.is_open:
            form["additionalProperties"] = True
        content["application/x-www-form-urlencoded"] = {"schema": form}
    if told.reads_body:
        content[BINARY] = {"schema": {"type": "string", "format": "binary"}}
    return {"content": content} if content else None


def _responses(told: Told) -> Json:
    content: Json = {}
    if told.gives_json:
        # Of several answers each has some of these.
        content["application/json"] = {
            "schema": {"type": "object", "properties": {name: {} for name in sorted(told.answers)}}
        }
    if told.draws:
        content["text/html"] = {"schema": {"type": "string"}}
    for mimetype in sorted(told.mimetypes):
        content[mimetype] = {"schema": {"type": "string", "format": "binary"}}
    wrong = {"application/json": {"schema": {"$ref": "#/components/schemas/Error"}}}
    return {
        "200": {"description": "It was done.", **({"content": content} if content else {})},
        "default": {"description": "It was not, for the reason that is told.", "content": wrong},
    }


def _schema(kind: str) -> Json:
    if kind.startswith("list of "):
        return {"type": "array", "items": _schema(kind.removeprefix("list of "))}
    return {"type": kind}


@cache
def told_by(view: Callable[..., Any]) -> Told:
    """What a view function reads and gives, itself and by functions of ours that it calls."""
    told = Told()
    for function in _reached(view, DEEPEST):
        _listen(function, told)
    return told


def _reached(function: Any, deep: int, seen: frozenset[Any] = frozenset()) -> Iterator[FunctionType]:
    function = inspect.unwrap(function)
    if not isinstance(function, FunctionType) or function in seen or not function.__module__.startswith(__package__):
        return
    yield function
    if deep:
        for name in dict.fromkeys(function.__code__.co_names):
            yield from _reached(function.__globals__.get(name), deep - 1, seen | {function})


def _listen(function: FunctionType, told: Told) -> None:
    tree = ast.parse(textwrap.dedent(inspect.getsource(function)))
    names = _names_of_forms(tree)
    for node in ast.walk(tree):
        if isinstance(node, ast.Call):
            _listen_to_call(node, names, told, function.__globals__)
        elif isinstance(node, ast.Compare) and isinstance(node.left, ast.Constant):
            place = _place(node.comparators[0], names)
            if place:
                getattr(told, place).setdefault(str(node.left.value), "string")
        elif isinstance(node, ast.Attribute) and ast.unparse(node) in ("request.stream", "request.get_data"):
            told.reads_body = True
        elif isinstance(node, ast.Subscript) and isinstance(node.slice, ast.Constant):
            place = _place(node.value, names)
            if place:
                getattr(told, place).setdefault(str(node.slice.value), "string")


def _names_of_forms(tree: ast.AST) -> dict[str, str]:
    """Names in a function that stand for a form or a query; a parameter called `typed` is whichever it was given."""
    names = {}
    for node in ast.walk(tree):
        if isinstance(node, ast.Assign):
            targets = node.targets[0].elts if isinstance(node.targets[0], ast.Tuple) else [node.targets[0]]
            values = node.value.elts if isinstance(node.value, ast.Tuple) else [node.value]
            for target, value in zip(targets, values, strict=False):
                place = _place(value, {})
                if isinstance(target, ast.Name) and place:
                    names[target.id] = place
        elif isinstance(node, ast.arg) and node.arg in ("typed", "form"):
            names[node.arg] = "form"
    return names


def _place(node: ast.AST, names: dict[str, str]) -> str | None:
    """`form` or `query`, where an expression is one of these."""
    if isinstance(node, ast.Name):
        return names.get(node.id)
    text = ast.unparse(node)
    return next((place for name, place in READS.items() if text == f"request.{name}"), None)


def _listen_to_call(node: ast.Call, names: dict[str, str], told: Told, here: dict[str, Any]) -> None:
    called = ast.unparse(node.func)
    if called == "jsonify":
        told.answers.update(each.arg for each in node.keywords if each.arg)
        told.gives_json = True
        for each in node.args:
            if isinstance(each, ast.Call):
                told.answers.update(_keys_of(here.get(ast.unparse(each.func))))
    elif called in ("render_template", "_plain"):
        told.draws = True
    elif called in ("Response", "_binary", "sound_of", "send_file"):
        kinds = [each.value for each in node.keywords if each.arg == "mimetype"]
        told.mimetypes.update(str(each.value) for each in kinds if isinstance(each, ast.Constant))
        if called != "Response":
            told.mimetypes.add(BINARY)
    elif isinstance(node.func, ast.Attribute):
        place = _place(node.func.value, names)
        if place and node.func.attr in ("get", "getlist"):
            _note_field(node, place, told)
        elif place == "form":
            told.is_open = True
    if any(_place(each, names) == "form" for each in node.args):
        told.is_open = True


def _keys_of(function: Any) -> Iterator[str]:
    """Keys of the dict that a function of ours returns, and of those that it is put together from."""
    if not isinstance(function, FunctionType) or not function.__module__.startswith("nicelevel."):
        return
    tree = ast.parse(textwrap.dedent(inspect.getsource(function)))
    for node in ast.walk(tree):
        if isinstance(node, ast.Return) and isinstance(node.value, ast.Dict):
            for key, value in zip(node.value.keys, node.value.values, strict=True):
                if isinstance(key, ast.Constant):
                    yield str(key.value)
                elif key is None and isinstance(value, ast.Call):
                    yield from _keys_of(function.__globals__.get(ast.unparse(value.func)))


def _note_field(node: ast.Call, place: str, told: Told) -> None:
    if not node.args or not isinstance(node.args[0], ast.Constant):
        told.is_open = told.is_open or place == "form"
        return
    kinds = [each.value for each in node.keywords if each.arg == "type"] + node.args[2:3]
    kind = TYPES.get(ast.unparse(kinds[0]), "string") if kinds else "string"
    assert isinstance(node.func, ast.Attribute)
    getattr(told, place)[str(node.args[0].value)] = f"list of {kind}" if node.func.attr == "getlist" else kind
