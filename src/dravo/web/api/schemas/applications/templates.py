"""Application templates, and copies of applications."""

from __future__ import annotations

from pydantic import Field

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
