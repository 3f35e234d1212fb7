"""What a validated model found wrong, in words: each fault with its place and what to do about it."""

from __future__ import annotations

import json
import types
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Union, get_args, get_origin

from pydantic import BaseModel, ValidationError

from nexal.errors import nearest

MOST = 20
"""Faults that are told of at a time."""


@dataclass(frozen=True)
class Fault:
    """One fault: the path of keys to it, what is wrong, and what to do."""

    path: tuple[int | str, ...]
    message: str
    remedy: str


def faults_of(error: ValidationError, model: type[BaseModel]) -> list[Fault]:
    """Every fault that a model found, in the order of the data, one for each place."""
    found: dict[tuple[int | str, ...], Fault] = {}
    for row in error.errors(include_url=False):
        models, path = _walked(model, row["loc"])
        kind, context = row["type"], row.get("ctx", {})
        if kind == "extra_forbidden":
            known = [name for each in models for name in keys_of(each)]
            fault = Fault(path, "is not a known key", nearest(str(path[-1]), known))
        elif kind == "missing":
            fault = Fault(path, "is missing", "add it")
        else:
            message = row["msg"].removeprefix("Value error, ")
            given = row.get("input")
            shown = isinstance(given, (str, int, float, bool)) or given is None
            told = f" (got {json.dumps(given)})" if shown and not context.get("error") else ""
            fault = Fault(path, message[:1].lower() + message[1:] + told, _remedy(kind, context, models, path))
        found.setdefault(path, fault)
    return list(found.values())[:MOST]


def keys_of(model: type[BaseModel]) -> list[str]:
    """The keys that a model takes, as they are written in JSON."""
    return [field.alias or name for name, field in model.model_fields.items()]


def worded(path: Sequence[int | str]) -> str:
    """A path of keys as words: entries of lists are counted from 1."""
    return ".".join(str(part + 1) if isinstance(part, int) else part for part in path)


_NUMBERS = {
    "greater_than_equal": ("ge", "give {} or more"),
    "greater_than": ("gt", "give more than {}"),
    "less_than_equal": ("le", "give {} or less"),
    "less_than": ("lt", "give less than {}"),
    "too_long": ("max_length", "give {} at most"),
    "string_too_long": ("max_length", "give {} letters at most"),
    "too_short": ("min_length", "give {} at least"),
    "string_too_short": ("min_length", "give {} letters at least"),
    "literal_error": ("expected", "use {}"),
    "enum": ("expected", "use {}"),
}
_WANTED = {
    "float": "give a number",
    "int": "give a whole number",
    "finite": "give a number that is finite",
    "string": "give text in quotes",
    "bool": "give true or false",
    "list": "give a list, in brackets",
    "tuple": "give a list, in brackets",
    "dict": "give an object, in braces",
    "model": "give an object, in braces",
}


def _remedy(kind: str, context: Mapping[str, Any], models: Sequence[type[BaseModel]], path: Sequence[Any]) -> str:
    if kind in _NUMBERS:
        name, text = _NUMBERS[kind]
        return text.format(context.get(name))
    if kind.partition("_")[0] in _WANTED:
        return _WANTED[kind.partition("_")[0]]
    default = _default(models, path)
    if default is not None:
        return f"what it is without being set: {json.dumps(default)}"
    return "put it right as it says, or take it out"


def _default(models: Sequence[type[BaseModel]], path: Sequence[Any]) -> Any:
    """The default of the setting that a path ends in, where it shows what is wanted."""
    for model in models:
        for name, field in model.model_fields.items():
            if path and (field.alias or name) == path[-1] and not field.is_required():
                default = field.get_default(call_default_factory=True)
                return default if isinstance(default, (int, float, str, list, tuple)) and default != [] else None
    return None


def _walked(
    model: type[BaseModel], location: Sequence[int | str]
) -> tuple[list[type[BaseModel]], tuple[int | str, ...]]:
    """The models that hold the end of a location, and the location without the names of validators and variants."""
    here: list[Any] = [model]
    holders: list[type[BaseModel]] = [model]
    path: list[int | str] = []
    for part in location:
        models = [each for each in here if isinstance(each, type) and issubclass(each, BaseModel)]
        fields = [field for each in models for name, field in each.model_fields.items() if part in (name, field.alias)]
        if fields:
            holders, here = models, [inner for field in fields for inner in _parts(field.annotation)]
        elif isinstance(part, int):
            here = [inner for each in here for inner in _parts(each, inside=True)]
        elif models and not str(part).startswith("function-"):
            holders, here = models, []
        elif not models and any(get_origin(each) in (dict, Mapping) for each in here):
            here = [inner for each in here for inner in _parts(each, inside=True)]
        else:
            # The name of a variant of a union, or of a validator, is no key.
            if "[" in str(part) or str(part).startswith("function-") or str(part) in _VARIANTS:
                continue
            here = []
        path.append(part)
    return holders, tuple(path)


_VARIANTS = frozenset({"str", "float", "int", "bool", "none", "constrained-str", "all"})


def _parts(annotation: Any, *, inside: bool = False) -> list[Any]:
    """The variants of an annotation; with `inside` what its lists and objects hold."""
    origin = get_origin(annotation)
    if origin is Annotated:
        return _parts(get_args(annotation)[0], inside=inside)
    if origin in (Union, types.UnionType):
        return [part for each in get_args(annotation) for part in _parts(each, inside=inside)]
    if not inside:
        return [annotation]
    if origin in (dict, Mapping):
        return _parts(get_args(annotation)[1])
    if origin in (list, tuple, Sequence):
        return [part for each in get_args(annotation) if each is not Ellipsis for part in _parts(each)]
    return []
