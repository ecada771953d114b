"""Application templates, and copies of applications."""

from __future__ import annotations

from typing import Any

from pydantic import Field, TypeAdapter

from dravo.core.application_templates import ApplicationTemplate as TemplateFile
from dravo.web.api.schemas.applications.applications import PolicyRequest
from dravo.web.api.schemas.applications.provisioning_settings import ProvisioningSettingsRequest
from dravo.web.api.schemas.base import Model, RequestModel, Text


class TemplateQuestion(Model):
    """A question of a template."""

    name: str = Field(description="Name of the question, used in `answers`.")
    label: str = Field(description="Question in a few words.")
    hint: str
    example: str = Field(description="Example of an answer.")
    used_in: list[str] = Field(description="Where the answer is used.")


class PresetRole(Model):
    """A role that the template creates."""

    key: str
    label: str = Field(description="Label of the role.")
    rank: int
    sent_value: str = Field(description="Value sent to the application; empty for the key.")
    description: str = Field(description="What the role permits.")


class PresetPlan(PresetRole):
    """A license plan that the template creates."""

    seats: int | None = Field(description="Number of seats; null for no limit.")


class ApplicationTemplate(Model):
    """Preset values for a new application."""

    key: str = Field(description="Key of the template.")
    label: str = Field(description="Label of the template.")
    description: str = Field(description="What tells the template apart from the others.")
    needs: str = Field(description="Which license level or right the application needs.")
    tracked_only: bool
    own: bool = Field(description="Whether operators made the template.")
    questions: list[TemplateQuestion] = Field(description="Questions of the template.")
    roles: list[PresetRole] = Field(description="Roles that the template creates.")
    plans: list[PresetPlan]


class ApplicationTemplates(Model):
    """All application templates."""

    items: list[ApplicationTemplate]


class CopyApplicationRequest(RequestModel):
    """Another instance of an application."""

    key: Text = Field(description="Key of the copy.")
    label: Text = Field(description="Label of the copy.")


class CreateTemplateRequest(RequestModel):
    """A template from an application."""

    key: Text = Field(description="Key of the template.")
    application: Text = Field(description="Key of the application.")
    label: Text = Field(description="Label of the template.")
    description: Text = Field("", description="What tells the template apart from the others.")


class TemplateDocument(Model):
    """An application template as a data file has it."""

    key: str = Field(description="Key of the template.")
    document: dict[str, Any] = Field(description="The template; see its JSON Schema.")


class SaveTemplateRequest(RequestModel):
    """A template as a data file has it."""

    document: dict[str, Any] = Field(description="The template; see its JSON Schema.")


class TemplateSchema(Model):
    """The JSON Schema of application templates."""

    json_schema: dict[str, Any] = Field(description="A JSON Schema (draft 2020-12).")


def template_schema() -> dict[str, Any]:
    """Return the JSON Schema of application templates: of the template, with the settings as the API takes
    them.
    """
    schema = TypeAdapter(TemplateFile).json_schema()
    del schema["properties"]["key"]
    schema["required"] = [each for each in schema["required"] if each != "key"]
    for name, model in (("settings", ProvisioningSettingsRequest), ("policy", PolicyRequest)):
        inner = model.model_json_schema()
        schema.setdefault("$defs", {}).update(inner.pop("$defs", {}))
        for confirming in ("confirm", "expect", "enabled"):
            inner["properties"].pop(confirming, None)
        schema["properties"][name] = inner
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}
