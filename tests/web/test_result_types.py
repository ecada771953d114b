"""The results of the services have the fields that the API document promises."""

from __future__ import annotations

import dataclasses
import importlib
import pkgutil
import types
import typing
from collections.abc import Iterator, Sequence
from typing import Any

import pytest
from pydantic import BaseModel

import dravo.web.api.routes
from dravo.web.api.openapi import ApiBlueprint, model_named

PACKAGE = f"{dravo.web.api.routes.__name__}."
MODULES = [
    each.name for each in pkgutil.walk_packages(dravo.web.api.routes.__path__, PACKAGE) if not each.ispkg
]
# Routes whose result is a response of its own: files, redirects, cookies.
ROUTES = [
    (f"{module.removeprefix(PACKAGE)}.{each.view.__name__}", each.view, model_named(each.model))
    for module in MODULES
    for each in importlib.import_module(module).routes.results()
]


def result_of(view: Any) -> Any:
    """Return the type of a view's result, without the status."""
    given = typing.get_type_hints(view)["return"]
    return typing.get_args(given)[0] if typing.get_origin(given) is tuple else given


def parts(kind: Any) -> tuple[Any, bool]:
    """Return a type without None, and whether None is possible."""
    kind = getattr(kind, "__value__", kind)
    if typing.get_origin(kind) in (typing.Union, types.UnionType):
        others = [each for each in typing.get_args(kind) if each is not type(None)]
        whole = others[0] if len(others) == 1 else typing.Union[tuple(others)]  # noqa: UP007
        return whole, len(others) < len(typing.get_args(kind))
    return kind, False


def fields_of(kind: Any) -> dict[str, Any] | None:
    """Return the fields of a dataclass by their name in JSON, type variables replaced; None for others."""
    origin = typing.get_origin(kind) or kind
    if not dataclasses.is_dataclass(origin):
        return None
    known: dict[Any, Any] = {}
    for base in (kind, *getattr(origin, "__orig_bases__", ())):
        names = getattr(typing.get_origin(base), "__parameters__", ())
        known |= dict(zip(names, typing.get_args(base), strict=False))
    hints = typing.get_type_hints(origin)
    return {
        field.name.rstrip("_"): _replaced(hints[field.name], known) for field in dataclasses.fields(origin)
    }


def _replaced(kind: Any, known: dict[Any, Any]) -> Any:
    if isinstance(kind, typing.TypeVar):
        return known.get(kind, kind)
    if typing.get_origin(kind) in (list, Sequence):
        return list[_replaced(typing.get_args(kind)[0], known)]  # type: ignore[misc]
    return kind


def differences(result: Any, model: Any, place: str) -> Iterator[str]:
    """Yield where a result can differ from the model of the response."""
    (result, absent), (model, may_be_absent) = parts(result), parts(model)
    if absent and not may_be_absent:
        yield f"{place} can be null"
    fields = fields_of(result)
    if fields is not None and isinstance(model, type) and issubclass(model, BaseModel):
        promised = {each.alias or name: each for name, each in model.model_fields.items()}
        yield from (f"{place}.{name} is not promised" for name in fields.keys() - promised.keys())
        yield from (f"{place}.{name} is missing" for name in promised.keys() - fields.keys())
        for name in fields.keys() & promised.keys():
            yield from differences(fields[name], promised[name].annotation, f"{place}.{name}")
    elif typing.get_origin(result) in (list, Sequence) and typing.get_origin(model) is list:
        yield from differences(typing.get_args(result)[0], typing.get_args(model)[0], f"{place}[]")
    elif result in (int, bool) and isinstance(model, type) and model is not result:
        yield f"{place} is {result.__name__}, promised is {model.__name__}"
    elif fields is not None:
        yield f"{place} is an object, promised is {model}"


def test_every_route_is_compared() -> None:
    assert len(ROUTES) > 150


@pytest.mark.parametrize(("name", "view", "model"), ROUTES, ids=[each[0] for each in ROUTES])
def test_results_have_the_promised_fields(name: str, view: Any, model: Any) -> None:
    assert list(differences(result_of(view), model, name.rpartition(".")[2])) == []


def test_a_difference_is_found() -> None:
    @dataclasses.dataclass
    class Result:
        number: str | None
        more: int

    class Promised(BaseModel):
        number: str
        other: int

    assert sorted(differences(Result, Promised, "it")) == [
        "it.more is not promised",
        "it.number can be null",
        "it.other is missing",
    ]


def test_blueprints_know_their_results() -> None:
    assert all(isinstance(importlib.import_module(each).routes, ApiBlueprint) for each in MODULES)
