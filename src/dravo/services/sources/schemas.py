"""The schemas of a source: the standard ones, and extensions that operators added."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, NotFound, StillInUse
from dravo.core.scim.extensions import read_schema
from dravo.core.scim.schemas import Schema, SchemaSet, extended
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source, source_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.pagination import ItemList
from dravo.store.snapshots.config import raise_revision
from dravo.store.sources import schemas as stored
from dravo.store.sources.schemas import StoredSchema


@dataclass
class SourceSchema:
    """A schema extension of a source for User or Group."""

    urn: str
    kind: str
    name: str
    document: dict[str, Any]


def of_source(ctx: AppContext, connection: Connection, source_id: str) -> SchemaSet:
    """Return the schemas of a source; the same object as long as they do not change, because filters are
    cached by it.
    """
    rows = stored.of_source(connection, source_id)
    key = (source_id, tuple(row.id for row in rows))
    found = ctx.schemas.get(key)
    if found is None:
        schemas: dict[str, list[Schema]] = {"User": [], "Group": []}
        for row in rows:
            schemas[row.kind].append(read_schema(row.document))
        found = ctx.schemas[key] = extended(tuple(schemas["User"]), tuple(schemas["Group"]))
    return found


def list_schemas(ctx: AppContext, key: str) -> ItemList[SourceSchema]:
    """Return the extension schemas of a source."""
    with ctx.database.reading() as connection:
        source = source_by_key(connection, key)
        rows = stored.of_source(connection, source.id)
    return ItemList(
        [
            SourceSchema(
                urn=row.urn,
                kind=row.kind,
                name=row.document.get("name") or row.urn.rpartition(":")[2],
                document=row.document,
            )
            for row in rows
        ]
    )


def add(
    ctx: AppContext, caller: Caller, key: str, kind: str, document: dict[str, Any]
) -> ItemList[SourceSchema]:
    """Add an extension schema to a source's users ("User") or groups ("Group").

    Raises:
        InvalidInput: if the document does not describe a schema.
        AlreadyExists: if the source has one of that URN.
    """
    schema = read_schema(document)
    now = clock.now()
    try:
        with ctx.database.writing() as connection:
            source = pushing_source(connection, key)
            stored.insert_schema(
                connection, StoredSchema(new_id(), source.id, schema.id, kind, document, now)
            )
            # Rules can use its attributes from now on.
            raise_revision(connection)
            details = {"source": key, "urn": schema.id, "kind": kind}
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("added schema", "source", source.id, details=details),
            )
    except IntegrityError:
        raise AlreadyExists(
            f"'{key}' has a schema '{schema.id}' already.",
            "Remove the existing schema first, or use another URN.",
            "schema",
        ) from None
    ctx.token_revision += 1
    return list_schemas(ctx, key)


def remove(ctx: AppContext, caller: Caller, key: str, urn: str) -> None:
    """Remove an extension schema; its attributes are no longer shown, and are deleted at the next full change
    of each user.

    Raises:
        NotFound.
        StillInUse: if a rule needs the schema, and no other source has it.
    """
    with ctx.database.writing() as connection:
        source = source_by_key(connection, key)
        if not stored.delete_schema(connection, source.id, urn):
            raise NotFound(f"'{key}' has no schema '{urn}'.")
        check_rules(connection, urn)
        raise_revision(connection)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("removed schema", "source", source.id, details={"source": key, "urn": urn}),
        )
    ctx.token_revision += 1


def check_rules(connection: Connection, urn: str) -> None:
    """Check that no rule needs a schema that no source has any more.

    Raises:
        StillInUse: with the rule.
    """
    found = stored.rule_without_schema(connection, urn)
    if found is not None:
        raise StillInUse(
            f"A rule of '{found.application}' uses the schema: {found.rule}.",
            "Delete or change the rule first.",
        )
