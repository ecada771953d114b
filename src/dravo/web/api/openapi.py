"""The routes of the management API and their OpenAPI document, which is built on request.

Building all schemas takes a third of the start, and most processes never need them.
"""

from __future__ import annotations

import importlib
import inspect
import threading
from collections.abc import Callable
from dataclasses import dataclass, is_dataclass
from typing import Any

from flask import Response
from flask_openapi3.blueprint import APIBlueprint
from flask_openapi3.openapi import OpenAPI
from flask_openapi3.utils import parse_parameters
from pydantic import BaseModel

from dravo.web.api.descriptions import describe

_TURN = threading.Lock()


def responses(model: str, status: int = 200) -> Any:
    """Return the response models of a route by their names; they are imported when the document is built.

    Args:
        model: such as "applications.tasks.PageOfTasks".
        status: the HTTP status.
    """
    return {status: model}


def model_named(named: str) -> type[BaseModel]:
    """Return the model with a name, such as "applications.tasks.PageOfTasks"."""
    module, _, name = named.rpartition(".")
    found: type[BaseModel] = getattr(importlib.import_module(f"dravo.web.api.schemas.{module}"), name)
    return found


@dataclass(frozen=True)
class RouteResult:
    """A route, and the name of the model of its response."""

    view: Callable[..., object]
    model: str


class ApiBlueprint(APIBlueprint):
    """A part of the API; its requests are known at once, its responses are described later."""

    def __init__(self, *arguments: Any, **more: Any) -> None:
        super().__init__(*arguments, **more)
        self._undescribed: list[tuple[str, Callable[..., Any], dict[str, Any]]] = []
        self._results: list[RouteResult] = []

    def _collect_openapi_info(self, rule: str, func: Callable[..., Any], **told: Any) -> Any:
        self._undescribed.append((rule, func, told))
        self._results += [
            RouteResult(func, each)
            for each in (told.get("responses") or {}).values()
            if isinstance(each, str)
        ]
        return parse_parameters(func, doc_ui=False)

    def results(self) -> list[RouteResult]:
        """Return the routes that answer with a model."""
        return list(self._results)

    def describe(self) -> None:
        """Add all routes to `paths` and `components_schemas`."""
        while self._undescribed:
            rule, func, told = self._undescribed.pop(0)
            responses = {
                status: model_named(each) if isinstance(each, str) else each
                for status, each in (told.pop("responses", None) or {}).items()
            }
            summary, _, explained = (inspect.getdoc(func) or "").partition("\n\n")
            words = {"summary": summary.rstrip("."), "description": " ".join(explained.split())}
            super()._collect_openapi_info(rule, func, **(told | words), responses=responses or None)


class Api(OpenAPI):
    """The application that the parts of the API belong to."""

    def __init__(self, *arguments: Any, **more: Any) -> None:
        self._parts: list[ApiBlueprint] = []
        super().__init__(*arguments, **more)

    def add_part(self, part: ApiBlueprint) -> None:
        """Serve the routes of a part."""
        self._parts.append(part)
        self.register_api(part)

    def make_response(self, rv: Any) -> Response:
        """Return the response for the result of a route; objects become JSON."""
        result, *more = rv if isinstance(rv, tuple) else (rv,)
        if is_dataclass(result):
            result = self.json.response(result)
        return super().make_response((result, *more) if more else result)

    @property
    def api_doc(self) -> dict[str, Any]:
        """The OpenAPI document."""
        with _TURN:
            if not self.spec_json:
                for part in self._parts:
                    part.describe()
                    self.paths.update(part.paths)
                    self.components_schemas.update(part.components_schemas)
            document = dict(super().api_doc)
            describe(document)
            return document
