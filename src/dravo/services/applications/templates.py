"""Application templates: those that ship, and those that operators made from an application; and copies."""

from __future__ import annotations

import functools
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, fields
from importlib import resources
from typing import Any

from pydantic import ValidationError
from sqlalchemy import Connection

from dravo.core.application_templates import (
    ApplicationTemplate,
    PresetPlan,
    PresetRole,
    completed,
    places_of,
)
from dravo.core.errors import AlreadyExists, DravoError, InvalidInput, NotFound, did_you_mean
from dravo.services.access import license_plans, policies
from dravo.services.access.license_plans import NewLicensePlan
from dravo.services.applications import applications, connections, roles
from dravo.services.applications.applications import ApplicationDetail, one
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.applications.roles import RoleEdit
from dravo.services.applications.settings import ProvisioningSettings
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_key, check_label
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.access import license_plans as plan_rows
from dravo.store.organization import settings as stored_settings
from dravo.store.pagination import ItemList
from dravo.store.queries import applications as application_rows
from dravo.store.queries.references import KeyAndLabel

FOLDER = resources.files("dravo") / "templates" / "applications"
# The name under which templates of operators are stored, by key.
OWN = "application_templates"
MOST_OWN = 200
# Settings that belong to one installation of an application, not to its kind.
_NOT_COPIED = (
    "enabled",
    "provisioned_groups",
    "reconcile_schedule_words",
    "reconcile_next_at",
    "reconcile_times",
)


# The settings that a template can preset.
SETTING_NAMES = {each.name for each in fields(ProvisioningSettings)} - {
    *_NOT_COPIED,
} | {"provisioned_groups"}


@dataclass
class TemplateQuestion:
    """A question of a template, and where its answer is used."""

    name: str
    label: str
    hint: str
    example: str
    used_in: list[str]


@dataclass
class TemplateLine:
    """An application template; `own` if operators made it."""

    key: str
    label: str
    description: str
    needs: str
    tracked_only: bool
    own: bool
    questions: list[TemplateQuestion]
    roles: list[PresetRole]
    plans: list[PresetPlan]


@dataclass(frozen=True)
class FromTemplate:
    """A new application from a template.

    Attributes:
        answers: by the name of a question; answers can be missing, and the address is then entered later.
    """

    key: str
    label: str
    template: str
    owner: str | None = None
    answers: Mapping[str, str] = field(default_factory=dict)


@functools.cache
def _shipped() -> dict[str, ApplicationTemplate]:
    found = {}
    for each in sorted(FOLDER.iterdir(), key=lambda file: file.name):
        if each.name.endswith(".toml"):
            key = each.name.removesuffix(".toml")
            found[key] = ApplicationTemplate(key=key, **tomllib.loads(each.read_text("utf-8")))
    return found


def _own(connection: Connection) -> dict[str, Any]:
    kept = stored_settings.value(connection, OWN)
    return dict(kept) if isinstance(kept, dict) else {}


def _every(connection: Connection) -> dict[str, tuple[ApplicationTemplate, bool]]:
    own = {key: ApplicationTemplate(key=key, **document) for key, document in _own(connection).items()}
    return {
        **{key: (each, False) for key, each in _shipped().items()},
        **{key: (each, True) for key, each in own.items()},
    }


def list_templates(ctx: AppContext) -> ItemList[TemplateLine]:
    """Return all templates by label, those of operators first."""
    with ctx.database.reading() as connection:
        found = _every(connection).values()
    lines = [_line(template, own=own) for template, own in found]
    return ItemList(sorted(lines, key=lambda each: (not each.own, each.label)))


def _line(template: ApplicationTemplate, *, own: bool) -> TemplateLine:
    return TemplateLine(
        key=template.key,
        label=template.label,
        description=template.description,
        needs=template.needs,
        tracked_only=template.tracked_only,
        own=own,
        questions=[
            TemplateQuestion(each.name, each.label, each.hint, each.example, places_of(template, each.name))
            for each in template.questions
        ],
        roles=template.roles,
        plans=template.plans,
    )


def add(ctx: AppContext, caller: Caller, wish: FromTemplate) -> ApplicationDetail:
    """Add an application with the roles, plans and settings of a template.

    Raises:
        InvalidInput: for an unknown template, or an answer of the wrong form; AlreadyExists, NotFound,
            NotPermitted: as adding an application.
    """
    with ctx.database.reading() as connection:
        template = completed(_known(connection, wish.template), wish.answers)
    return _build(ctx, caller, wish.key, wish.label, wish.owner, template)


def copy(ctx: AppContext, caller: Caller, key: str, new_key: str, label: str) -> ApplicationDetail:
    """Copy an application as another instance: its roles, plans, settings and access policy.

    The address, the token, assignments and provisioned groups belong to the one instance and are not copied.

    Raises:
        NotFound; InvalidInput, AlreadyExists: for the new key.
    """
    detail = _build(ctx, caller, new_key, label, None, _of_application(ctx, key))
    with ctx.database.writing() as connection:
        copied = application_by_key(connection, key)
        original = copied.original_id or copied.id
        application_rows.update_application(
            connection, application_by_key(connection, detail.key).id, original_id=original
        )
    return one(ctx, detail.key)


@dataclass
class AddedApplication:
    """The application that was added from a template, or why it was not."""

    template: str
    application: KeyAndLabel | None
    message: str | None = None
    hint: str | None = None


def add_several(
    ctx: AppContext, caller: Caller, keys: Sequence[str], owner: str | None
) -> ItemList[AddedApplication]:
    """Add an application for each template, with the key and the label of the template, one at a time.

    Answers and other labels are entered later. One that cannot be added does not keep back the others.
    """
    added = []
    for key in dict.fromkeys(keys):
        try:
            with ctx.database.reading() as connection:
                template = _known(connection, key)
            made = add(ctx, caller, FromTemplate(key, template.label, key, owner))
            added.append(AddedApplication(key, KeyAndLabel(made.key, made.label)))
        except DravoError as wrong:
            added.append(AddedApplication(key, None, wrong.message, wrong.hint))
    return ItemList(added)


def _known(connection: Connection, key: str) -> ApplicationTemplate:
    known = _every(connection)
    if key not in known:
        raise InvalidInput(
            f"There is no application template '{key}'.", did_you_mean(key, list(known)), "template"
        )
    return known[key][0]


def document(ctx: AppContext, key: str) -> dict[str, Any]:
    """Return a template as a data file has it; empty values are left out.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        known = _every(connection)
    if key not in known:
        raise NotFound(f"There is no application template '{key}'.", did_you_mean(key, list(known)))
    found = {name: value for name, value in asdict(known[key][0]).items() if name != "key"}
    return {name: value for name, value in found.items() if value not in ("", [], {}, False)}


def load(ctx: AppContext, caller: Caller, key: str, given: dict[str, Any]) -> TemplateLine:
    """Save a template of the organization from a data file; one with this key is replaced.

    Raises:
        InvalidInput: for a document that is no template, or for the key of a template that ships with Dravo.
    """
    try:
        template = ApplicationTemplate(**{**given, "key": check_key(key)})
    except (ValidationError, TypeError) as wrong:
        raise _no_template(wrong) from None
    check_label(template.label)
    wrong_names = sorted({*template.settings} - SETTING_NAMES)
    if wrong_names:
        raise InvalidInput(
            f"'{wrong_names[0]}' is not a provisioning setting.",
            did_you_mean(wrong_names[0], sorted(SETTING_NAMES)),
            "settings",
        )
    kept = {name: value for name, value in asdict(template).items() if name != "key"}
    with ctx.database.writing() as connection:
        if key in _shipped():
            raise InvalidInput(f"The template '{key}' ships with Dravo.", "Choose another key.", "key")
        own = _own(connection)
        if key not in own and len(own) >= MOST_OWN:
            raise InvalidInput(f"There are {MOST_OWN} templates already.", "Delete a template first.", "key")
        stored_settings.replace_value(connection, OWN, {**own, key: kept})
        event = AuditEvent("saved application template", "template", key, details={"key": key})
        record_change(connection, ctx.keys, caller, clock.now(), event)
    return _line(template, own=True)


def _no_template(wrong: ValidationError | TypeError) -> InvalidInput:
    hint = "Compare the file with the schema: 'dravo application template-schema'."
    if isinstance(wrong, TypeError):
        return InvalidInput("The document is not an application template.", hint, "document")
    first = wrong.errors()[0]
    place = ".".join(str(each) for each in first["loc"])
    return InvalidInput(f"The template is invalid at '{place}': {first['msg']}.", hint, "document")


def _build(
    ctx: AppContext, caller: Caller, key: str, label: str, owner: str | None, template: ApplicationTemplate
) -> ApplicationDetail:
    """Add an application from a template; if a part of it fails, nothing stays."""
    applications.add(ctx, caller, key, label, owner, tracked_only=template.tracked_only)
    try:
        for role in template.roles:
            edit = RoleEdit(role.label, role.rank, role.sent_value, role.description)
            roles.add_role(ctx, caller, key, role.key, edit)
        for plan in template.plans:
            license_plans.add(ctx, caller, key, NewLicensePlan(**vars(plan)))
        if template.policy:
            policies.change(ctx, caller, key, template.policy)
        about = {"address": template.start} if template.start else {}
        applications.change(ctx, caller, key, about, template.settings)
        if template.address:
            connections.connect(ctx, caller, key, ConnectionSettings(template.address, None))
    except Exception:
        applications.remove(ctx, caller, key, check_label(label))
        raise
    return one(ctx, key)


def _of_application(ctx: AppContext, key: str) -> ApplicationTemplate:
    """Return what an application has in common with other instances of its kind."""
    detail = one(ctx, key)
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
        plans = plan_rows.list_plans(connection, row.id)
    settings = {name: value for name, value in asdict(detail.settings).items() if name not in _NOT_COPIED}
    return ApplicationTemplate(
        key=key,
        label=detail.label,
        tracked_only=detail.tracked_only,
        roles=[
            PresetRole(each.key, each.label, each.rank, each.sent_value or "", each.description or "")
            for each in detail.roles
        ],
        plans=[
            PresetPlan(
                each.key, each.label, each.rank, each.sent_value or "", each.description or "", each.seats
            )
            for each in plans
        ],
        settings=settings,
        policy={name: value for name, value in asdict(detail.policy).items() if value is not None},
    )


def save(
    ctx: AppContext, caller: Caller, key: str, application: str, label: str, description: str
) -> TemplateLine:
    """Make a template of an application; it has no address and no secret.

    Raises:
        NotFound; InvalidInput: for a wrong key; AlreadyExists: for a key that is taken.
    """
    made = _of_application(ctx, application)
    document = {**asdict(made), "label": check_label(label), "description": description.strip()[:500]}
    del document["key"]
    with ctx.database.writing() as connection:
        if check_key(key) in _every(connection):
            raise AlreadyExists(
                f"A template with the key '{key}' exists already.", "Choose another key.", "key"
            )
        own = _own(connection)
        if len(own) >= MOST_OWN:
            raise InvalidInput(f"There are {MOST_OWN} templates already.", "Delete a template first.", "key")
        stored_settings.replace_value(connection, OWN, {**own, key: document})
        details = {"key": key, "application": application}
        event = AuditEvent("created application template", "template", key, details=details)
        record_change(connection, ctx.keys, caller, clock.now(), event)
    return _line(ApplicationTemplate(key=key, **document), own=True)


def delete(ctx: AppContext, caller: Caller, key: str) -> None:
    """Delete a template that operators made; applications from it stay.

    Raises:
        NotFound: also for a template that ships with Dravo.
    """
    with ctx.database.writing() as connection:
        own = _own(connection)
        if key not in own:
            raise NotFound(
                f"There is no template '{key}' of your organization.", "Templates that ship with Dravo stay."
            )
        del own[key]
        stored_settings.replace_value(connection, OWN, own)
        event = AuditEvent("deleted application template", "template", key, details={"key": key})
        record_change(connection, ctx.keys, caller, clock.now(), event)
