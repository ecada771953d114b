"""Application templates, and copies of applications.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import Any, TypedDict


class ApplicationTemplate(TypedDict):
    """Preset values for a new application."""

    key: str
    label: str
    description: str
    needs: str
    tracked_only: bool
    own: bool
    questions: list[TemplateQuestion]
    roles: list[PresetRole]
    plans: list[PresetPlan]


class ApplicationTemplates(TypedDict):
    """All application templates."""

    items: list[ApplicationTemplate]


class PresetPlan(TypedDict):
    """A license plan that the template creates."""

    key: str
    label: str
    rank: int
    sent_value: str
    description: str
    seats: int | None


class PresetRole(TypedDict):
    """A role that the template creates."""

    key: str
    label: str
    rank: int
    sent_value: str
    description: str


class TemplateDocument(TypedDict):
    """An application template as a data file has it."""

    key: str
    document: dict[str, Any]


class TemplateQuestion(TypedDict):
    """A question of a template."""

    name: str
    label: str
    hint: str
    example: str
    used_in: list[str]


class TemplateSchema(TypedDict):
    """The JSON Schema of application templates."""

    json_schema: dict[str, Any]
