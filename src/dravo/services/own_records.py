"""What a source reads back: its own people and groups, as SCIM resources, and nobody else's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import NotFound
from dravo.core.instants import Instant
from dravo.core.scim.filters import matches
from dravo.core.scim.messages import LARGEST_PAGE, list_response
from dravo.core.scim.paths import parse_filter
from dravo.core.scim.resources import select_attributes
from dravo.core.scim.schemas import ENTERPRISE_URN, GROUP, GROUP_URN, USER, USER_URN, ResourceType
from dravo.services.intake import PUSH, Taken
from dravo.store import groups, own, records
from dravo.store import tables as t
from dravo.store.database import Database
from dravo.store.scim_filters import narrow


@dataclass(frozen=True)
class Query:
    """One query of RFC 7644, section 3.4.2; `start_index` counts from 1."""

    filter: str | None = None
    start_index: int = 1
    count: int = 100
    attributes: str | None = None
    excluded: str | None = None


class OwnRecords:
    """Reads a source's people and groups as that source sees them."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def person(self, source_id: str, record_id: str, base: str, query: Query) -> dict[str, Any]:
        """Return one person.

        Raises:
            NotFound: if the source has nobody of that id.
        """
        with self.database.reading() as connection:
            row = records.get(connection, source_id, PUSH, record_id)
            if row is None:
                raise NotFound(f"This source has no person with the id '{record_id}'.")
            return self._people(connection, [row], base, query)[0]

    def group(self, source_id: str, group_id: str, base: str, query: Query) -> dict[str, Any]:
        """Return one group with its members, unless they are left out by the query.

        Raises:
            NotFound: if the source has no such group.
        """
        with self.database.reading() as connection:
            row = groups.get(connection, source_id, PUSH, group_id)
            if row is None:
                raise NotFound(f"This source has no group with the id '{group_id}'.")
            return self._groups(connection, [row], base, query)[0]

    def people(self, source_id: str, base: str, query: Query) -> dict[str, Any]:
        """Return a page of people as a ListResponse.

        Raises:
            ScimError: 400 invalidFilter.
        """
        return self._page(t.record, USER, source_id, base, query)

    def groups(self, source_id: str, base: str, query: Query) -> dict[str, Any]:
        """Return a page of groups as a ListResponse.

        Raises:
            ScimError: 400 invalidFilter.
        """
        return self._page(t.group, GROUP, source_id, base, query)

    def _page(self, table: Any, resource_type: ResourceType, source_id: str, base: str, query: Query) -> dict[str, Any]:
        count = min(max(query.count, 0), LARGEST_PAGE)
        start = max(query.start_index, 1)
        render = self._people if resource_type is USER else self._groups
        tree = parse_filter(query.filter, resource_type) if query.filter else None
        with self.database.reading() as connection:
            narrowing = narrow(tree, table) if tree is not None else None
            if tree is None or (narrowing is not None and narrowing.exact):
                condition = narrowing.condition if narrowing else None
                total, rows = own.listing(connection, table, source_id, PUSH, condition, start - 1, count)
                return list_response(render(connection, rows, base, query), total, start)
            assert narrowing is not None
            everything = Query()
            found: list[dict[str, Any]] = []
            waiting: list[Any] = []
            total = 0
            for row in (*own.each(connection, table, source_id, PUSH, narrowing.condition), None):
                if row is not None:
                    waiting.append(row)
                    if len(waiting) < 500:
                        continue
                for resource in render(connection, waiting, base, everything):
                    if matches(tree, resource):
                        total += 1
                        if start <= total < start + count:
                            found.append(select_attributes(resource, resource_type, query.attributes, query.excluded))
                waiting = []
            return list_response(found, total, start)

    def _people(self, connection: Connection, rows: Sequence[Any], base: str, query: Query) -> list[dict[str, Any]]:
        listed = groups.groups_of_records(connection, [row.id for row in rows])
        return [
            select_attributes(
                person_resource(Taken(row.id, row.data, row.version, row.created_at, row.modified_at, listed[row.id]), base),
                USER,
                query.attributes,
                query.excluded,
            )
            for row in rows
        ]

    def _groups(self, connection: Connection, rows: Sequence[Any], base: str, query: Query) -> list[dict[str, Any]]:
        return [
            select_attributes(
                group_resource(
                    Taken(row.id, row.data, row.version, row.created_at, row.modified_at),
                    base,
                    groups.members(connection, row.id) if _asks_for_members(query) else (),
                ),
                GROUP,
                query.attributes,
                query.excluded,
            )
            for row in rows
        ]


def _asks_for_members(query: Query) -> bool:
    """Whether the members of a group have to be read at all; they may be 50,000."""
    if query.attributes:
        return "members" in query.attributes.lower()
    return "members" not in {name.strip().lower().removeprefix(f"{GROUP_URN.lower()}:") for name in (query.excluded or "").split(",")}


def person_resource(taken: Taken, base: str) -> dict[str, Any]:
    """Return a record as the SCIM User that its source sees (RFC 7643, sections 3 and 4.1).

    Args:
        taken: the record, with the groups that list it.
        base: the address of the source's channel, without a slash at its end.
    """
    extensions = [ENTERPRISE_URN] if ENTERPRISE_URN in taken.data else []
    resource = {"schemas": [USER_URN, *extensions], "id": taken.id, **taken.data, "meta": _meta("User", "Users", taken, base)}
    if taken.listed:
        resource["groups"] = [
            {"value": group_id, "$ref": f"{base}/Groups/{group_id}", "display": name, "type": "direct"} for group_id, name in taken.listed
        ]
    return resource


def group_resource(taken: Taken, base: str, members: Sequence[Any]) -> dict[str, Any]:
    """Return a group as the SCIM Group that its source sees (RFC 7643, section 4.2)."""
    resource = {"schemas": [GROUP_URN], "id": taken.id, **taken.data, "meta": _meta("Group", "Groups", taken, base)}
    if members:
        resource["members"] = [{"value": row[0], "$ref": f"{base}/{row[1]}s/{row[0]}", "type": row[1], "display": row[2]} for row in members]
    return resource


def _meta(kind: str, endpoint: str, taken: Taken, base: str) -> dict[str, str]:
    created: Instant = taken.created_at
    return {
        "resourceType": kind,
        "created": created,
        "lastModified": taken.modified_at,
        "location": f"{base}/{endpoint}/{taken.id}",
    }
