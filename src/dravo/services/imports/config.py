"""How a source is imported: connector, settings, schedule and policy, with a check and a preview on stored
records.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel
from sqlalchemy import Connection

from dravo.core import schedules
from dravo.core.errors import InvalidInput
from dravo.core.identity.policy_reading import read_policy
from dravo.core.identity.records import IMPORT
from dravo.core.identity.source_policy import SourcePolicy, reworked
from dravo.core.instants import parse_instant
from dravo.protocols.directory.connectors import (
    KINDS,
    ConnectorSetting,
    fields_of,
    kind_of,
    open_reader,
    read_settings,
)
from dravo.protocols.directory.csv_table import FILES, LARGEST_FILE, read_table
from dravo.protocols.directory.reader import Checked, Reader
from dravo.services import settings as organization_settings
from dravo.services.context import AppContext
from dravo.services.imports import intervals
from dravo.services.imports.uploads import ImportFile, files, folder_of
from dravo.services.lookups import check_not_retired, pushing_source
from dravo.services.results import CheckStep, SampleAttribute
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import templates
from dravo.services.sources.policy import import_of, import_policy
from dravo.store import clock
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.pagination import ItemList
from dravo.store.sources import settings as stored
from dravo.store.sources import sources as source_rows
from dravo.store.sources.sources import Source

HOURLY = "0 * * * *"
# Settings that decide where a connection goes: if one of them changes, the secret is deleted.
_WHERE = ("address", "token_address", "client_id", "bind_dn", "sign_in", "start_tls", "check_certificate")
SAMPLE = 20
MOST_GROUPS = 1_000


@dataclass
class Connector:
    """A connector. Its expressions use attributes of an "entry" or of a SCIM "user"."""

    key: str
    label: str
    reads: str
    settings: list[ConnectorSetting]


@dataclass
class ImportSettings:
    """The import settings of a source."""

    kind: str
    label: str
    reads: str
    settings: dict[str, Any]
    fields: list[ConnectorSetting]
    has_secret: bool
    enabled: bool
    enabled_from: str | None
    schedule: str
    schedule_words: str
    next_at: Sequence[str]
    full_at: str | None
    policy: dict[str, Any]
    checked: list[CheckStep]
    attributes: list[str]
    checked_at: str | None
    conflicts: int
    files: list[ImportFile]
    warning: str


@dataclass
class SampleUser:
    """The result of the source policy for one record."""

    name: str
    user: dict[str, Any] | None
    groups: list[str]
    accepted: bool
    message: str


@dataclass
class ImportCheck:
    """The result of a connection check."""

    ok: bool
    steps: list[CheckStep]
    attributes: list[SampleAttribute]
    sample: list[SampleUser]


def kinds() -> ItemList[Connector]:
    """Return the connectors with their settings, for forms."""
    items = [
        Connector(key=key, label=kind.label, reads=kind.reads, settings=fields_of(key))
        for key, kind in KINDS.items()
    ]
    return ItemList(items)


def reader_of(ctx: AppContext, source: Source, row: Any, policy: SourcePolicy) -> Reader:
    """Return the reader of a source, not connected yet."""
    secret = ctx.keys.decrypt(row.secret) if row.secret else ""
    return open_reader(
        row.kind,
        read_settings(row.kind, row.settings),
        secret,
        folder_of(ctx, source.id),
        sorted(policy.uses),
    )


def shown(ctx: AppContext, key: str) -> ImportSettings:
    """Return how a source is read.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source, row = import_of(connection, key)
        zone = organization_settings.time_zone(connection)
        conflicts = stored_conflicts.number_of_open_conflicts(connection, source.id)
        now, scheduled = clock.now(), row.enabled and bool(row.schedule)
        schedule = row.schedule if scheduled else ""
        warning = intervals.slow_run_warning(connection, source.id, schedule, now, zone)
    kind = kind_of(row.kind)
    return ImportSettings(
        kind=row.kind,
        label=kind.label,
        reads=kind.reads,
        settings=row.settings,
        fields=fields_of(row.kind),
        has_secret=bool(row.secret),
        enabled=row.enabled,
        enabled_from=row.enabled_from,
        schedule=row.schedule,
        schedule_words=schedules.in_words(row.schedule) if row.schedule else "No schedule",
        next_at=schedules.next_times(row.schedule, now, 3, zone) if scheduled else [],
        full_at=row.full_at,
        policy=import_policy(source, row.kind).document(),
        checked=(row.checked or {}).get("steps", []),
        attributes=(row.checked or {}).get("attributes", []),
        checked_at=row.checked_at,
        conflicts=conflicts,
        files=files(ctx, source.id) if row.kind == "csv" else [],
        warning=warning,
    )


def change(ctx: AppContext, caller: Caller, key: str, given: dict[str, Any]) -> ImportSettings:
    """Change how a source is imported; None keeps a value.

    Args:
        ctx: the data folder.
        caller: who changes it.
        key: the key of the source.
        given: "kind" (the first time), "settings", "secret", "schedule" ("" for none), "policy", "enabled",
            "enabled_from" ("" for none).

    Raises:
        InvalidInput, NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        if given.get("enabled") or given.get("enabled_from"):
            check_not_retired(source)
        row = stored.import_of(connection, source.id)
        if row is None:
            given = _from_template(source, given)
            stored.insert_import(connection, _begun(source.id, given))
            row = stored.import_of(connection, source.id)
            assert row is not None
        elif given.get("kind") not in (None, row.kind):
            raise InvalidInput(
                f"'{source.label}' uses the connector {kind_of(row.kind).label}.",
                "Add another source for another connector.",
                "kind",
            )
        values, details = _changed(ctx, connection, source, row, given, now)
        if values:
            stored.update_import(connection, source.id, **values)
        if details:
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("changed import settings", "source", source.id, details={"key": key, **details}),
            )
    return shown(ctx, key)


def _from_template(source: Source, given: dict[str, Any]) -> dict[str, Any]:
    """Return the first settings of an import, with the presets of the source's template below them."""
    template = templates.of_source(source.template, IMPORT)
    if template is None or given.get("kind") not in (None, template.connector):
        return given
    presets = {"kind": template.connector, "settings": template.settings}
    policy = {**template.policy, **(given.get("policy") or {})}
    settings = {**template.settings, **(given.get("settings") or {})}
    return {**given, **presets, "settings": settings, **({"policy": policy} if policy else {})}


def _begun(source_id: str, given: dict[str, Any]) -> dict[str, Any]:
    kind = given.get("kind")
    if not kind:
        raise InvalidInput("The connector is missing.", f"Use one of: {', '.join(KINDS)}.", "kind")
    settings = read_settings(kind, given.get("settings") or {})
    return {
        "source_id": source_id,
        "kind": kind,
        "settings": settings.model_dump(),
        "enabled": False,
        "schedule": HOURLY,
    }


def _changed(
    ctx: AppContext, connection: Connection, source: Source, row: Any, given: dict[str, Any], now: Any
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the columns that change, and the details for the audit log."""
    values: dict[str, Any] = {}
    details: dict[str, Any] = {}
    if given.get("settings") is not None:
        made = read_settings(row.kind, {**row.settings, **given["settings"]}).model_dump()
        differing = sorted(name for name, value in made.items() if row.settings.get(name) != value)
        if differing:
            values |= {
                "settings": made,
                "change_marker": None,
                "full_at": None,
                "checked": None,
                "checked_at": None,
            }
            details["settings"] = differing
            if row.secret and any(name in _WHERE for name in differing) and given.get("secret") is None:
                # A secret is sent only to the server for which it was entered.
                values["secret"] = None
                details["secret"] = "deleted, because the host changed"
    if given.get("secret") is not None:
        values["secret"] = ctx.keys.encrypt(given["secret"]) if given["secret"] else None
        details["secret"] = "changed"
    if given.get("policy") is not None:
        kind = kind_of(row.kind)
        policy = read_policy({**import_policy(source, row.kind).document(), **given["policy"]}, kind.reads)
        if policy.document() != source.policy:
            source_rows.update_source(connection, source.id, policy=policy.document())
            values |= {"change_marker": None, "full_at": None}
            details["policy"] = policy.document()
    when, told = _when(connection, row, given, now)
    return {**values, **when}, {**details, **told}


def _when(
    connection: Connection, row: Any, given: dict[str, Any], now: Any
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the changed schedule and status, and the details for the audit log."""
    values: dict[str, Any] = {}
    details: dict[str, Any] = {}
    if given.get("schedule") is not None and given["schedule"] != row.schedule:
        if given["schedule"]:
            schedules.read_schedule(given["schedule"])
        values["schedule"] = details["schedule"] = given["schedule"]
    if given.get("enabled") is not None and given["enabled"] != row.enabled:
        values["enabled"] = details["enabled"] = given["enabled"]
    if given.get("enabled_from") is not None:
        at = parse_instant(given["enabled_from"], "enabled_from") if given["enabled_from"] else None
        if at is not None and at <= now:
            raise InvalidInput(
                "The start time is in the past.",
                "Enter a future time, or enable the import now.",
                "enabled_from",
            )
        values["enabled_from"] = details["enabled_from"] = at
    elif "enabled" in values:
        # An immediate change replaces a scheduled one.
        values["enabled_from"] = None
    if {"schedule", "enabled"} & values.keys():
        text, enabled = values.get("schedule", row.schedule), values.get("enabled", row.enabled)
        zone = organization_settings.time_zone(connection)
        values["next_at"] = schedules.next_time(text, now, zone) if text and enabled else None
    return values, details


def forget(ctx: AppContext, caller: Caller, key: str) -> None:
    """Remove the import of a source; its users stay.

    Raises:
        NotFound.
    """
    with ctx.database.writing() as connection:
        source, _ = import_of(connection, key)
        stored.delete_import(connection, source.id)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("removed import", "source", source.id, details={"key": key}),
        )


# Connection check, and preview of the source policy


def check(ctx: AppContext, caller: Caller, key: str, given: dict[str, Any] | None = None) -> ImportCheck:
    """Test the connection of a source step by step, as saved or with other settings, which are not saved.

    Args:
        ctx: the data folder.
        key: the key of the source.
        given: "kind", "settings", "secret" of an unsaved connection; None for the saved one.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        row = stored.import_of(connection, source.id)
    kind, settings, secret = _as_given(ctx, row, given or {})
    policy = import_policy(source, kind)
    reader = open_reader(kind, settings, secret, folder_of(ctx, source.id), sorted(policy.uses))
    try:
        checked = reader.check(sorted(policy.uses))
    finally:
        reader.close()
    answer = ImportCheck(
        ok=checked.fine,
        steps=[CheckStep(**each.document()) for each in checked.steps],
        attributes=[
            SampleAttribute(name=name, values=values) for name, values in sorted(checked.attributes.items())
        ],
        sample=_sample(policy, checked),
    )
    if row is not None and not given:
        kept = {
            "steps": [each.document() for each in checked.steps],
            "attributes": sorted(checked.attributes),
        }
        with ctx.database.writing() as connection:
            stored.update_unchanged_import(connection, row, checked=kept, checked_at=clock.now())
            details = {"key": key, "ok": checked.fine}
            record_change(
                connection,
                ctx.keys,
                caller,
                clock.now(),
                AuditEvent("checked connection", "source", source.id, details=details),
            )
    return answer


def _as_given(ctx: AppContext, row: Any, given: dict[str, Any]) -> tuple[str, BaseModel, str]:
    kind = given.get("kind") or (row.kind if row is not None else None)
    if kind is None:
        raise InvalidInput("The connector is missing.", f"Use one of: {', '.join(KINDS)}.", "kind")
    kept = row.settings if row is not None and row.kind == kind else {}
    settings = read_settings(kind, {**kept, **(given.get("settings") or {})})
    if given.get("secret"):
        return kind, settings, str(given["secret"])
    elsewhere = any(
        kept.get(name) != value for name, value in settings.model_dump().items() if name in _WHERE
    )
    secret = ctx.keys.decrypt(row.secret) if row is not None and row.secret and not elsewhere else ""
    return kind, settings, secret


def _sample(policy: SourcePolicy, checked: Checked) -> list[SampleUser]:
    sample = reworked(policy, [each.attributes for each in checked.sample[:SAMPLE]], _first_name)
    return [SampleUser(**each) for each in sample]


def _first_name(entry: Any) -> str:
    for name in ("displayname", "cn", "uid", "displayName", "userName", "name", "email", "mail"):
        value = entry.get(name)
        if value:
            return str(value[0] if isinstance(value, list) else value)
    return "somebody"


def put_file(ctx: AppContext, caller: Caller, key: str, name: str, content: bytes) -> ImportSettings:
    """Store a file of a source, in place of the former one.

    Raises:
        InvalidInput: for a file that the connector does not use, or that cannot be read.
    """
    bare = name.removesuffix(".csv")
    if bare not in FILES:
        raise InvalidInput(
            f"'{name}' is not a file of this connector.",
            f"Upload one of: {', '.join(f'{each}.csv' for each in FILES)}.",
            "name",
        )
    if len(content) > LARGEST_FILE:
        raise InvalidInput(
            "The file is too large.", f"Upload at most {LARGEST_FILE // 1_048_576} MB.", "file"
        )
    with ctx.database.reading() as connection:
        source, row = import_of(connection, key)
    if row.kind != "csv":
        raise InvalidInput(
            f"'{source.label}' does not import files.", "Add a source with the connector csv.", "kind"
        )
    settings: Any = read_settings("csv", row.settings)
    read_table(content, bare, settings)
    folder = folder_of(ctx, source.id)
    folder.mkdir(parents=True, exist_ok=True)
    fresh = folder / f".{bare}.new"
    fresh.touch(mode=0o600)
    fresh.write_bytes(content)
    fresh.replace(folder / f"{bare}.csv")
    with ctx.database.writing() as connection:
        details = {"key": key, "file": f"{bare}.csv", "bytes": len(content)}
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("uploaded a file", "source", source.id, details=details),
        )
    return shown(ctx, key)
