"""The setup checklist of an application: values for both sides, what is missing, what traffic verified."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from sqlalchemy import Connection

from dravo.core.instants import Instant
from dravo.core.provisioning import attribute_mapping
from dravo.core.provisioning.accounts import DEACTIVATE, DELETE, provisioned_names
from dravo.core.provisioning.attribute_mapping import RoleEncoding
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.services.applications import available_roles
from dravo.services.applications import settings as provisioning_settings
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.security import masking
from dravo.services.sources.scim_checklist import ChecklistItem, ChecklistTrouble, ChecklistValue
from dravo.store import clock
from dravo.store.provisioning import applications as stored
from dravo.store.provisioning import checklist as seen_rows
from dravo.store.provisioning.applications import CountedRole
from dravo.store.queries.applications import Application
from dravo.store.queries.references import KeyAndLabel
from dravo.store.snapshots.config import settings_of

# What traffic verifies, in the order of the work.
ANSWERED, READ, TESTED, CREATED, WITH_ROLE, REMOVED, RECONCILED = (
    "answered",
    "capabilities_read",
    "test_account",
    "account",
    "account_with_role",
    "removal",
    "reconciliation",
)
LABELS = {
    ANSWERED: "The application answers",
    READ: "Dravo has read its capabilities",
    TESTED: "A test account was created, changed and deleted",
    CREATED: "An account was created or adopted",
    WITH_ROLE: "An account has a role",
    REMOVED: "An account lost a role or was deactivated",
    RECONCILED: "A reconciliation read all accounts",
}
_EXTENSIONS = {ENTERPRISE_URN: "the enterprise extension (department and others)"}
BY_HAND = {
    CREATED: "An operator created an account",
    WITH_ROLE: "An account has a role",
    REMOVED: "An account lost a role or was deactivated",
}


@dataclass
class MissingStep:
    """Something to do here before accounts are provisioned."""

    message: str
    hint: str


@dataclass(frozen=True)
class ApplicationChecklist:
    """The setup checklist of an application.

    Attributes:
        give: what the administrator of the application has to know.
        get: what this administrator has to give.
        missing: what is still to do here.
        ticks: what traffic verifies.
        text: the checklist to send, without a secret.
    """

    application: KeyAndLabel
    give: list[ChecklistValue]
    get: list[str]
    missing: list[MissingStep]
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    text: str = ""


def checklist(ctx: AppContext, key: str) -> ApplicationChecklist:
    """Return the setup checklist of an application.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
        roles = stored.list_roles(connection, row.id)
        found = ApplicationChecklist(
            application=KeyAndLabel(row.key, row.label),
            give=[] if row.tracked_only else _to_give(row, roles),
            get=[] if row.tracked_only else _to_get(row),
            missing=_missing(connection, row, roles),
            ticks=_ticks(connection, row),
            trouble=_trouble(row),
        )
    return replace(found, text=_to_send(found))


def _to_give(row: Application, roles: list[CountedRole]) -> list[ChecklistValue]:
    settings = settings_of(row)
    encoding = RoleEncoding(**(row.role_encoding or {}))
    sent = [encoding.sent_for(each.key, each.label, each.sent_value) for each in roles]
    named = ", ".join(each for each in sent if each) or "none yet"
    where = {
        attribute_mapping.ATTRIBUTE: f"in {encoding.attribute}",
        attribute_mapping.GROUPS: "as groups",
        attribute_mapping.NOTHING: "not sent",
    }.get(encoding.way, f"in {encoding.way}")
    endings = {row.on_losing_access, row.on_inactive, row.on_leaving}
    operations = [
        *(["create"] if row.create_accounts else []),
        *(["update"] if row.update_accounts else []),
        *(["deactivate"] if DEACTIVATE in endings else []),
        *(["delete"] if DELETE in endings else []),
    ]
    return [
        ChecklistValue("Protocol", "SCIM 2.0", "RFC 7643 and RFC 7644. Dravo is the SCIM client."),
        ChecklistValue("Operations", ", ".join(operations) or "none", "What Dravo does with accounts."),
        ChecklistValue(
            "Attributes",
            ", ".join(sorted(_EXTENSIONS.get(each, each) for each in provisioned_names(settings))),
            "What Dravo sends, where a user has a value.",
        ),
        ChecklistValue("Roles", f"{where}: {named}", "The values that Dravo sends for roles."),
        ChecklistValue("External ID", "ID of the user in Dravo", "Sent as externalId; it never changes."),
        ChecklistValue(
            "Existing accounts",
            ", ".join(row.adopt_by or ()) or "not adopted",
            "Attributes by which Dravo adopts accounts that exist already.",
        ),
    ]


def _to_get(row: Application) -> list[str]:
    kind = (row.auth or {}).get("kind", "bearer")
    secret = {
        "basic": "A user name and a password that can read and change users.",
        "client_credentials": "Token URL, client ID and client secret of an OAuth 2.0 client.",
    }.get(kind, "A bearer token that can read and change users, and when it expires.")
    return [
        "The SCIM base URL, which often ends in /scim/v2.",
        secret,
        "The values of the roles, if they differ.",
    ]


def _missing(connection: Connection, row: Application, roles: list[CountedRole]) -> list[MissingStep]:
    steps = []

    def step(message: str, hint: str) -> None:
        steps.append(MissingStep(message, hint))

    if row.owner_id is None:
        step("The application has no owner.", "Choose an owner with Edit.")
    if not roles:
        step("No roles are defined.", "Create roles under Settings, or use those of the application there.")
    if not row.tracked_only:
        _connection_steps(row, step)
        unknown = available_roles.compare(row, roles).missing
        if unknown:
            step(
                f"The application does not list the roles {', '.join(unknown)}.",
                "Compare the values that are sent with those under Settings, In the application.",
            )
    if not stored.has_assignments(connection, row.id):
        step("No role is assigned.", "Map a group or assign a user under Role mapping.")
    if not row.tracked_only and provisioning_settings.status_of(row) == provisioning_settings.DISABLED:
        step("Provisioning is disabled.", "Enable it for a pilot group under Settings, Provisioning status.")
    return steps


def _connection_steps(row: Application, step: Callable[[str, str], None]) -> None:
    if not row.base_url:
        step("The SCIM base URL is missing.", "Enter it under Settings, Connection, even without the token.")
    if not row.secret:
        step("The token is missing.", "Enter it under Settings, Connection.")
    if row.base_url and row.secret and not row.checked_at:
        step("The connection has not been checked.", "Select Check again under Settings, Connection.")


def _trouble(row: Application) -> list[ChecklistTrouble]:
    if not row.trouble:
        return []
    at = row.paused_at or row.answered_at or clock.now()
    return [ChecklistTrouble(at, f"{masking.text(row.trouble)} {row.trouble_hint or ''}".strip())]


def _ticks(connection: Connection, row: Application) -> list[ChecklistItem]:
    seen = seen_rows.read(connection, row.id)
    times: dict[str, tuple[Instant | None, Instant | None]] = {
        ANSWERED: (row.answered_at, row.answered_at),
        READ: (row.checked_at, row.checked_at),
        TESTED: (row.tested_at, row.tested_at),
        CREATED: seen.accounts,
        WITH_ROLE: seen.with_role,
        REMOVED: seen.removals,
        RECONCILED: seen.reconciliations,
    }
    labels = BY_HAND if row.tracked_only else LABELS
    return [ChecklistItem(what, label, *times[what]) for what, label in labels.items()]


def _to_send(found: ApplicationChecklist) -> str:
    """Return the checklist as text for the administrator of the application, without a secret."""
    if not found.give:
        return ""
    width = max(len(each.name) for each in found.give)
    lines = [
        f"Provisioning accounts of '{found.application.label}' by SCIM 2.0",
        "",
        "What Dravo does:",
        *(f"  {each.name:<{width}}  {each.value}" for each in found.give),
        "",
        "Please send:",
        *(f"  - {each}" for each in found.get),
    ]
    waiting = [each.label for each in found.ticks if each.first_at is None]
    if waiting:
        lines += ["", "Not verified yet:", *(f"  - {each}" for each in waiting)]
    return "\n".join(lines) + "\n"
