"""Reads for sources: each sees its own users and groups as SCIM resources, and no others."""

from __future__ import annotations

import base64
import binascii
import zlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import orjson
from sqlalchemy import ColumnElement, Connection

from dravo.core.errors import NotFound
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.scim.errors import ScimError
from dravo.core.scim.filters import locations, matches
from dravo.core.scim.messages import LARGEST_PAGE, list_response
from dravo.core.scim.paths import Filter, Location, parse_filter
from dravo.core.scim.resources import parse_selection, select_attributes
from dravo.core.scim.schemas import GROUP_URN, STANDARD, USER_URN, ResourceType, SchemaSet
from dravo.core.scim.sorting import SortKey, is_descending, sort_key, sort_location
from dravo.core.scim.versions import entity_tag
from dravo.services.ingest.types import IngestResult
from dravo.store import groups, records
from dravo.store.database import Database
from dravo.store.queries import source_rows
from dravo.store.queries.scim_filters import EVERYTHING, Narrowing, narrow
from dravo.store.received import members


@dataclass(frozen=True)
class Query:
    """A query of RFC 7644, section 3.4.2, and RFC 9865. `start_index` counts from 1; the cursor "" asks for
    the first page.
    """

    filter: str | None = None
    start_index: int = 1
    count: int = 100
    attributes: str | None = None
    excluded: str | None = None
    sort_by: str | None = None
    sort_order: str | None = None
    cursor: str | None = None


@dataclass(frozen=True)
class Key:
    """The place of a resource in a list: the sort value, the kind ("User" before "Group") and the ID."""

    sorted_by: SortKey
    kind: int
    id: str

    def order(self) -> tuple[SortKey, int, str]:
        """Return it as it compares."""
        return self.sorted_by, self.kind, self.id


class OwnRecords:
    """Reads the users and groups of a source as that source sees them."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def whole(
        self,
        source_id: str,
        kind: str,
        identifier: str,
        base: str,
        shapes: SchemaSet = STANDARD,
        *,
        lists: bool = True,
    ) -> dict[str, Any]:
        """Return one resource with all attributes, also those returned on request only.

        Args:
            source_id: the source that must own the resource.
            kind: "User" or "Group".
            identifier: the ID of the resource.
            base: the base URL of the source.
            shapes: the schemas of the source.
            lists: whether to read the members of a group, of which there may be 50,000.

        Raises:
            NotFound: if the source has no such resource.
        """
        with self.database.reading() as connection:
            get = records.get if kind == "User" else groups.get
            row = get(connection, source_id, INBOUND_SCIM, identifier)
            if row is None:
                what = "user" if kind == "User" else "group"
                raise NotFound(f"This source has no {what} with the ID '{identifier}'.")
            return self._rendered(connection, kind, [row], base, shapes, lists=lists)[0]

    def users(self, source_id: str, base: str, query: Query, shapes: SchemaSet = STANDARD) -> dict[str, Any]:
        """Return a page of users as a ListResponse; raises as `search`."""
        return self.search(source_id, base, query, (shapes.user,), shapes)

    def groups(self, source_id: str, base: str, query: Query, shapes: SchemaSet = STANDARD) -> dict[str, Any]:
        """Return a page of groups as a ListResponse; raises as `search`."""
        return self.search(source_id, base, query, (shapes.group,), shapes)

    def search(
        self,
        source_id: str,
        base: str,
        query: Query,
        kinds: Sequence[ResourceType],
        shapes: SchemaSet = STANDARD,
    ) -> dict[str, Any]:
        """Return a page of one kind of resource, or of both (RFC 7644, sections 3.4.2 and 3.4.3; RFC 9865).

        Raises:
            ScimError: 400 invalidFilter, invalidPath (of sortBy), invalidCursor, invalidValue.
        """
        query = replace(
            query, count=min(max(query.count, 0), LARGEST_PAGE), start_index=max(query.start_index, 1)
        )
        search = Search(source_id, query, tuple(kinds))
        with self.database.reading() as connection:
            column = search.sql_order()
            if column is not None:
                return self._by_sql(connection, search, column, base, shapes)
            return self._by_core(connection, search, base, shapes)

    def _by_sql(
        self, connection: Connection, search: Search, column: Any, base: str, shapes: SchemaSet
    ) -> dict[str, Any]:
        query, kind = search.query, search.kinds[0]
        table, narrowing = source_rows.TABLES[kind.name], search.narrowings[0]
        selection = source_rows.Selection(table, search.source_id, INBOUND_SCIM, narrowing.condition)
        total = source_rows.count(connection, selection)
        after = None
        if query.cursor:
            key = search.read_cursor(query.cursor)
            after = (str(key.sorted_by[1]), key.id)
        offset = query.start_index - 1 if query.cursor is None else 0
        order = source_rows.Order(column, search.descending, after)
        rows: list[tuple[Any, Any]] = []
        if query.count and total:
            rows = source_rows.list_rows(connection, selection, order, offset, query.count + 1, total)
        more, rows = len(rows) > query.count, rows[: query.count]
        following = search.write_cursor(Key((0, rows[-1][1]), 0, rows[-1][0].id)) if more and rows else None
        return _listed(
            self._shown(connection, kind, [row for row, _ in rows], base, query, shapes),
            total,
            query,
            following,
        )

    def _by_core(
        self, connection: Connection, search: Search, base: str, shapes: SchemaSet
    ) -> dict[str, Any]:
        query = search.query
        keys = sorted(self._keys(connection, search, base, shapes), key=Key.order, reverse=search.descending)
        start = query.start_index - 1
        if query.cursor is not None:
            start = 0
            if query.cursor:
                last = search.read_cursor(query.cursor).order()
                start = sum(
                    1 for key in keys if (key.order() >= last if search.descending else key.order() <= last)
                )
        shown = keys[start : start + query.count]
        following = search.write_cursor(shown[-1]) if shown and start + query.count < len(keys) else None
        resources: dict[str, dict[str, Any]] = {}
        for number, kind in enumerate(search.kinds):
            wanted = [key.id for key in shown if key.kind == number]
            rows = source_rows.some(connection, source_rows.TABLES[kind.name], wanted)
            present = [rows[each] for each in wanted if each in rows]
            resources.update(
                zip(
                    (row.id for row in present),
                    self._shown(connection, kind, present, base, query, shapes),
                    strict=True,
                )
            )
        return _listed(
            [resources[key.id] for key in shown if key.id in resources], len(keys), query, following
        )

    def _keys(self, connection: Connection, search: Search, base: str, shapes: SchemaSet) -> Iterable[Key]:
        """Yield the place of each matching resource; only what filter and order need is read."""
        for number, kind in enumerate(search.kinds):
            table, narrowing, tree = (
                source_rows.TABLES[kind.name],
                search.narrowings[number],
                search.trees[number],
            )
            selection = source_rows.Selection(table, search.source_id, INBOUND_SCIM, narrowing.condition)
            if (tree is None or narrowing.exact) and search.sort_at is None:
                yield from (Key((0, ""), number, each) for each in source_rows.ids(connection, selection))
                continue
            needs = search.needs(number)
            framed = not needs.isdisjoint(("meta", "schemas", "members", "groups")) or any(
                name.startswith("urn:") for name in needs
            )
            lists = not needs.isdisjoint(("members", "groups"))
            waiting: list[Any] = []
            for row in (*source_rows.each(connection, selection), None):
                if row is not None:
                    waiting.append(row)
                    if len(waiting) < source_rows.CHUNK:
                        continue
                # Values that the filter does not use are not computed: this would cost more than the query.
                plain = ({**row.data, "id": row.id} for row in waiting)
                for resource in (
                    self._rendered(connection, kind.name, waiting, base, shapes, lists=lists)
                    if framed
                    else plain
                ):
                    if tree is None or narrowing.exact or matches(tree, resource):
                        yield Key(
                            sort_key(resource, search.sort_at) if search.sort_at else (0, ""),
                            number,
                            resource["id"],
                        )
                waiting = []

    def _rendered(
        self,
        connection: Connection,
        kind: str,
        rows: Sequence[Any],
        base: str,
        shapes: SchemaSet,
        *,
        lists: bool,
    ) -> list[dict[str, Any]]:
        """Return rows as whole resources; `lists` tells whether to read groups of users and members of
        groups.
        """
        ids = [row.id for row in rows] if lists else []
        found: Mapping[str, Sequence[Any]] = (
            members.groups_of_records(connection, ids)
            if kind == "User"
            else members.members_of(connection, ids)
        )
        resources = []
        for row in rows:
            listed = found.get(row.id, ())
            if kind == "User":
                taken = IngestResult(row.id, row.data, row.version, row.created_at, row.modified_at, listed)
                resources.append(user_resource(taken, base, shapes))
            else:
                taken = IngestResult(row.id, row.data, row.version, row.created_at, row.modified_at)
                resources.append(group_resource(taken, base, listed, shapes))
        return resources

    def _shown(
        self,
        connection: Connection,
        kind: ResourceType,
        rows: Sequence[Any],
        base: str,
        query: Query,
        shapes: SchemaSet,
    ) -> list[dict[str, Any]]:
        lists = kind.name == "User" or asks_for_members(query, kind)
        resources = self._rendered(connection, kind.name, rows, base, shapes, lists=lists)
        return [select_attributes(each, kind, query.attributes, query.excluded) for each in resources]


class Search:
    """A query, read and checked against the kinds of resources that it is over."""

    def __init__(self, source_id: str, query: Query, kinds: tuple[ResourceType, ...]) -> None:
        self.source_id, self.query, self.kinds = source_id, query, kinds
        others = [tuple(other for other in kinds if other is not kind) for kind in kinds]
        self.trees: list[Filter | None] = [
            parse_filter(query.filter, kind, others=rest) if query.filter else None
            for kind, rest in zip(kinds, others, strict=True)
        ]
        self.narrowings = [
            narrow(tree, source_rows.TABLES[kind.name], source_id)
            if tree is not None
            else Narrowing(None, exact=True)
            for tree, kind in zip(self.trees, kinds, strict=True)
        ]
        if len(kinds) > 1:
            # An attribute can differ between resource types, so the core evaluates the filter.
            self.narrowings = [
                each if tree is None else EVERYTHING
                for each, tree in zip(self.narrowings, self.trees, strict=True)
            ]
        self.sort_at: Location | None = (
            sort_location(query.sort_by, kinds[0], others[0]) if query.sort_by else None
        )
        self.descending = is_descending(query.sort_order)

    def sql_order(self) -> ColumnElement[str] | None:
        """Return the column to sort by if SQL can sort, else None."""
        if len(self.kinds) > 1 or not self.narrowings[0].exact:
            return None
        table = source_rows.TABLES[self.kinds[0].name]
        return source_rows.SORTABLE[table].get(str(self.sort_at)) if self.sort_at else table.c.id

    def needs(self, number: int) -> set[str]:
        """Return the names of the attributes, and URNs of extensions, that judging and sorting one kind of
        resource need.
        """
        tree = self.trees[number]
        found = (*(locations(tree) if tree else ()), *((self.sort_at,) if self.sort_at else ()))
        return {at.urn or (at.attribute.name if at.attribute else "") for at in found}

    @property
    def _mark(self) -> int:
        """Return a number that tells searches apart, so that a cursor of one search is not used in
        another.
        """
        parts = (
            self.source_id,
            self.query.filter,
            str(self.sort_at),
            self.descending,
            [kind.name for kind in self.kinds],
        )
        return zlib.crc32(repr(parts).encode())

    def write_cursor(self, key: Key) -> str:
        """Return the cursor for the page after a resource.

        A cursor names a place and gives no right: a made-up cursor shows the caller's own resources only.
        """
        return (
            base64.urlsafe_b64encode(orjson.dumps([self._mark, *key.sorted_by, key.kind, key.id]))
            .decode()
            .rstrip("=")
        )

    def read_cursor(self, text: str) -> Key:
        """Return the place that a cursor names.

        Raises:
            ScimError: 400 invalidCursor.
        """
        match _decoded(text):
            case [mark, int(missing), str() | float() | int() as value, int(kind), str(identifier)] if (
                mark == self._mark
            ):
                return Key((missing, value), kind, identifier)
        raise ScimError(
            400,
            "The cursor does not belong to this query. Use nextCursor of the previous page with the "
            "same filter.",
            "invalidCursor",
        )


def _decoded(text: str) -> Any:
    try:
        return orjson.loads(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)))
    except (binascii.Error, ValueError):
        return None


def _listed(
    resources: list[dict[str, Any]], total: int, query: Query, following: str | None
) -> dict[str, Any]:
    return list_response(
        resources,
        total,
        query.start_index if query.cursor is None else None,
        following if query.cursor is not None else None,
    )


def asks_for_members(query: Query, kind: ResourceType) -> bool:
    """Whether the members of a group must be read; there may be 50,000."""
    if query.attributes:
        return any(name == "members" for _, name, _ in parse_selection(query.attributes, kind))
    return (None, "members", None) not in parse_selection(query.excluded, kind)


def user_resource(taken: IngestResult, base: str, shapes: SchemaSet = STANDARD) -> dict[str, Any]:
    """Return a record as the SCIM User that its source sees (RFC 7643, sections 3 and 4.1).

    Args:
        taken: the record, with its groups.
        base: the base URL of the source, without a slash at its end.
        shapes: the schemas of the source.
    """
    resource = {**_framed(taken, shapes.user, USER_URN), "meta": _meta("User", "Users", taken, base)}
    if taken.listed:
        resource["groups"] = [
            {"value": group_id, "$ref": f"{base}/Groups/{group_id}", "display": name, "type": "direct"}
            for group_id, name in taken.listed
        ]
    return resource


def group_resource(
    taken: IngestResult, base: str, listed: Sequence[Any], shapes: SchemaSet = STANDARD
) -> dict[str, Any]:
    """Return a group as the SCIM Group that its source sees (RFC 7643, section 4.2)."""
    resource = {**_framed(taken, shapes.group, GROUP_URN), "meta": _meta("Group", "Groups", taken, base)}
    if listed:
        resource["members"] = [
            {"value": row[0], "$ref": f"{base}/{row[1]}s/{row[0]}", "type": row[1], "display": row[2]}
            for row in listed
        ]
    return resource


def _framed(taken: IngestResult, kind: ResourceType, core: str) -> dict[str, Any]:
    """Return a resource with its schemas and ID; attributes of removed schemas are left out."""
    extensions = [schema.id for schema in kind.extensions if schema.id in taken.data]
    data = taken.data
    if sum(1 for name in data if name.startswith("urn:")) > len(extensions):
        data = {
            name: value for name, value in data.items() if not name.startswith("urn:") or name in extensions
        }
    return {"schemas": [core, *extensions], "id": taken.id, **data}


def _meta(kind: str, endpoint: str, taken: IngestResult, base: str) -> dict[str, str]:
    return {
        "resourceType": kind,
        "created": taken.created_at,
        "lastModified": taken.modified_at,
        "location": f"{base}/{endpoint}/{taken.id}",
        "version": entity_tag(taken.version, taken.listed),
    }
