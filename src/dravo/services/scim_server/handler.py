"""Carries out requests of sources on inbound SCIM (RFC 7644, section 3): single requests, and bulk requests.

Knows SCIM, and no web server. Every change goes through ingest.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from dravo.core.errors import DravoError, NotFound
from dravo.core.scim.bulk import (
    BULK_RESPONSE,
    BulkOperation,
    next_ready,
    read_bulk,
    resolved,
    without_references,
)
from dravo.core.scim.errors import ScimError, invalid_value
from dravo.core.scim.messages import read_search
from dravo.core.scim.patches import PATCH_SCHEMA, read_operations
from dravo.core.scim.resources import read_members, read_resource, select_attributes
from dravo.core.scim.versions import ANY, Condition
from dravo.services.context import AppContext
from dravo.services.ingest.intake import Intake
from dravo.services.ingest.types import IngestOptions, IngestResult
from dravo.services.scim_server.request_log import TraceDraft
from dravo.services.scim_server.resources import (
    OwnRecords,
    Query,
    asks_for_members,
    group_resource,
    user_resource,
)
from dravo.services.sources import observations
from dravo.services.sources.observations import TrafficObserver
from dravo.services.sources.scim_auth import ScimCaller
from dravo.store.sources import sources as source_rows

PLAIN_QUERY = Query()


@dataclass(frozen=True)
class ScimRequestDetail:
    """A request: the caller, the base URL, the query, the condition, and the draft of its trace."""

    visitor: ScimCaller
    base: str
    query: Query = PLAIN_QUERY
    condition: Condition = ANY
    draft: TraceDraft | None = None

    @property
    def manner(self) -> IngestOptions:
        """The options with which ingest applies the request."""
        return IngestOptions(self.visitor.shapes, self.condition, self.draft.prepare if self.draft else None)


@dataclass(frozen=True)
class ScimResponse:
    """A response: HTTP status, SCIM message (None: no body), and headers of the resource."""

    status: int
    body: dict[str, Any] | None = None
    headers: Mapping[str, str] = field(default_factory=dict)


class ScimHandler:
    """Carries out SCIM requests of sources."""

    def __init__(self, ctx: AppContext) -> None:
        self._ctx = ctx
        self._intake = Intake(ctx.database, ctx.catalogue, keys=ctx.keys)
        self._own = OwnRecords(ctx.database)
        self._observed = TrafficObserver(ctx)

    @property
    def observed(self) -> TrafficObserver:
        """What real traffic has shown, for the setup checklist."""
        return self._observed

    # Reading

    def read(self, asked: ScimRequestDetail, kind: str, identifier: str) -> ScimResponse:
        """Return one resource; 304 if the reader has it already (RFC 7644, sections 3.4.1 and 3.14).

        Raises:
            NotFound, ScimError.
        """
        asked.visitor.check(kind, writing=False)
        shape = asked.visitor.shapes.named(kind)
        lists = asks_for_members(asked.query, shape)
        whole = self._own.whole(
            asked.visitor.source_id, kind, identifier, asked.base, asked.visitor.shapes, lists=lists
        )
        tag = whole["meta"]["version"]
        if asked.condition.unchanged(tag):
            return ScimResponse(304, None, {"ETag": tag})
        resource = select_attributes(whole, shape, asked.query.attributes, asked.query.excluded)
        return ScimResponse(200, resource, {"ETag": tag, "Location": whole["meta"]["location"]})

    def search(self, asked: ScimRequestDetail, kinds: Sequence[str]) -> ScimResponse:
        """Return a page of resources of one kind or of both.

        Raises:
            ScimError.
        """
        for kind in kinds:
            asked.visitor.check(kind, writing=False)
        shapes = asked.visitor.shapes
        types = [shapes.named(kind) for kind in kinds]
        return ScimResponse(
            200, self._own.search(asked.visitor.source_id, asked.base, asked.query, types, shapes)
        )

    # Writing

    def write(
        self, asked: ScimRequestDetail, method: str, kind: str, identifier: str | None, payload: Any
    ) -> ScimResponse:
        """Create, replace, change or delete one resource.

        Args:
            asked: the request.
            method: POST, PUT, PATCH or DELETE.
            kind: "User" or "Group".
            identifier: None for POST.
            payload: the parsed body; None for DELETE.

        Raises:
            NotFound, ScimError.
        """
        asked.visitor.check(kind, writing=True)
        if method == "DELETE":
            return self._delete(asked, kind, identifier or "")
        return (self._write_user if kind == "User" else self._write_group)(
            asked, method, identifier or "", payload
        )

    def _delete(self, asked: ScimRequestDetail, kind: str, identifier: str) -> ScimResponse:
        remove = self._intake.remove_user if kind == "User" else self._intake.remove_group
        remove(asked.visitor.source_id, identifier, asked.manner)
        return ScimResponse(204)

    def _write_user(
        self, asked: ScimRequestDetail, method: str, identifier: str, payload: Any
    ) -> ScimResponse:
        source_id, shape = asked.visitor.source_id, asked.visitor.shapes.user
        if method == "POST":
            taken = self._intake.create_user(source_id, read_resource(payload, shape), asked.manner)
            self._observed.note(source_id, observations.USER)
        else:
            if method == "PUT":
                taken = self._intake.replace_user(
                    source_id, identifier, read_resource(payload, shape), asked.manner
                )
            else:
                taken = self._intake.patch_user(
                    source_id, identifier, read_operations(payload, shape), asked.manner
                )
            self._observed.note(
                source_id,
                observations.DEACTIVATION if taken.data.get("active") is False else observations.CHANGE,
            )
        resource = user_resource(taken, asked.base, asked.visitor.shapes)
        return self._shown(asked, "User", resource, 201 if method == "POST" else 200)

    def _write_group(
        self, asked: ScimRequestDetail, method: str, identifier: str, payload: Any
    ) -> ScimResponse:
        source_id, shape = asked.visitor.source_id, asked.visitor.shapes.group
        if method == "PATCH":
            operations = read_operations(payload, shape)
            taken = self._intake.patch_group(source_id, identifier, operations, asked.manner)
            if any(each.kind == "add" for each in operations):
                self._observed.note(source_id, observations.MEMBERSHIP)
            resource = group_resource(taken, asked.base, (), asked.visitor.shapes)
            headers = {"ETag": resource["meta"]["version"]}
            if asked.query.attributes:
                # With requested attributes, the resource is returned; otherwise no body, because there can be
                # many members (RFC 7644, section 3.5.2).
                return self._shown(asked, "Group", self._with_members(asked, taken), 200)
            return ScimResponse(204, None, headers)
        data = read_resource(payload, shape)
        data.pop("members", None)
        given = next((value for key, value in payload.items() if key.lower() == "members"), None)
        members = read_members(given)
        if method == "POST":
            taken = self._intake.create_group(source_id, data, members, asked.manner)
            self._observed.note(source_id, observations.GROUP)
        else:
            taken = self._intake.replace_group(source_id, identifier, data, members, asked.manner)
        if members:
            self._observed.note(source_id, observations.MEMBERSHIP)
        return self._shown(asked, "Group", self._with_members(asked, taken), 201 if method == "POST" else 200)

    def _with_members(self, asked: ScimRequestDetail, taken: IngestResult) -> dict[str, Any]:
        shapes = asked.visitor.shapes
        plain = group_resource(taken, asked.base, (), shapes)
        if not asks_for_members(asked.query, shapes.group):
            return plain
        try:
            found = self._own.whole(asked.visitor.source_id, "Group", taken.id, asked.base, shapes)
        except NotFound:
            # Another request deleted the resource after the change; the change still happened.
            return plain
        return {**found, "meta": plain["meta"]}

    def _shown(
        self, asked: ScimRequestDetail, kind: str, resource: dict[str, Any], status: int
    ) -> ScimResponse:
        shown = select_attributes(
            resource, asked.visitor.shapes.named(kind), asked.query.attributes, asked.query.excluded
        )
        return ScimResponse(
            status, shown, {"ETag": resource["meta"]["version"], "Location": resource["meta"]["location"]}
        )

    # Many at once

    def bulk(self, asked: ScimRequestDetail, payload: Any) -> ScimResponse:
        """Carry out a bulk request: each operation by itself, those that others refer to first (RFC 7644,
        section 3.7).

        Raises:
            ScimError: if the request as a whole is invalid.
        """
        run = BulkRun(self, asked, payload)
        return ScimResponse(200, {"schemas": [BULK_RESPONSE], "Operations": run.carry_out()})

    # Traces without a subject

    def source_id(self, key: str) -> str | None:
        """Return the id of the source with a key, or None."""
        with self._ctx.database.reading() as connection:
            found = source_rows.by_key(connection, key)
        return found.id if found is not None else None


class BulkRun:
    """One bulk request while it is carried out."""

    def __init__(self, pushing: ScimHandler, asked: ScimRequestDetail, payload: Any) -> None:
        self._pushing = pushing
        self._asked = replace(asked, draft=None, condition=ANY, query=PLAIN_QUERY)
        self._bulk = read_bulk(payload)
        self._ids: dict[str, str] = {}
        self._results: dict[int, dict[str, Any]] = {}
        self._errors = 0

    def carry_out(self) -> list[dict[str, Any]]:
        """Carry out the operations, and return their results in the order of the request."""
        waiting: list[BulkOperation] = []
        for each in self._bulk.operations:
            if isinstance(each, BulkOperation):
                waiting.append(each)
            else:
                number, given, wrong = each
                self._note_error(number, str(given.get("method", "")), given.get("bulkid"), wrong)
        while waiting and not self._enough():
            ready = next_ready(waiting, self._ids)
            if ready is not None:
                waiting.remove(ready)
                self._one(ready, ready.data)
                continue
            waiting = self._cut_knot(waiting)
        return [self._results[number] for number in sorted(self._results)]

    def _enough(self) -> bool:
        most = self._bulk.fail_on_errors
        return most is not None and self._errors >= most

    def _cut_knot(self, waiting: list[BulkOperation]) -> list[BulkOperation]:
        """Resolve operations that wait for each other: refuse one that refers to an unknown operation, else
        create one without its references.
        """
        coming = {each.bulk_id for each in waiting if each.method == "POST"}
        lost = [each for each in waiting if not each.needs <= coming | self._ids.keys()]
        if lost:
            for each in lost:
                missing = sorted(each.needs - coming - self._ids.keys())
                self._refuse(
                    each,
                    invalid_value(f"'bulkId:{missing[0]}' refers to no resource created in this request."),
                )
            return [each for each in waiting if each not in lost]
        first = next(
            (each for each in waiting if each.method == "POST" and isinstance(each.data, Mapping)), None
        )
        if first is None:
            for each in waiting:
                self._refuse(
                    each,
                    invalid_value("The operation refers to a resource that this request does not create."),
                )
            return []
        data, operations = without_references(first)
        self._one(first, data)
        rest = [each for each in waiting if each is not first]
        if first.bulk_id in self._ids:
            later = {"schemas": [PATCH_SCHEMA], "Operations": operations}
            identifier = self._ids[first.bulk_id or ""]
            rest.append(
                BulkOperation(
                    first.number, "PATCH", first.kind, first.path, identifier, first.bulk_id, None, later
                )
            )
        return rest

    def _one(self, operation: BulkOperation, data: Any) -> None:
        asked = replace(self._asked, condition=Condition(operation.version) if operation.version else ANY)
        try:
            answer = self._pushing.write(
                asked,
                operation.method,
                operation.kind,
                resolved(operation.identifier, self._ids),
                resolved(data, self._ids),
            )
        except ScimError as wrong:
            self._refuse(operation, wrong)
            return
        except NotFound as wrong:
            self._refuse(operation, ScimError(404, wrong.message))
            return
        except DravoError as wrong:
            self._refuse(operation, ScimError(wrong.status, str(wrong)))
            return
        known = self._results.get(operation.number)
        if known is not None:
            # The second part of an operation whose resource was created without its references.
            known["version"] = answer.headers.get("ETag", known.get("version"))
            return
        identifier = answer.body["id"] if answer.body else resolved(operation.identifier, self._ids)
        if operation.method == "POST" and operation.bulk_id:
            self._ids[operation.bulk_id] = identifier
        result: dict[str, Any] = {"method": operation.method, "status": str(answer.status)}
        if operation.bulk_id:
            result["bulkId"] = operation.bulk_id
        result["location"] = answer.headers.get("Location") or f"{asked.base}/{operation.kind}s/{identifier}"
        if "ETag" in answer.headers:
            result["version"] = answer.headers["ETag"]
        self._results[operation.number] = result

    def _refuse(self, operation: BulkOperation, wrong: ScimError) -> None:
        location = (
            None
            if operation.method == "POST"
            else f"{self._asked.base}/{operation.kind}s/{operation.identifier}"
        )
        self._note_error(operation.number, operation.method, operation.bulk_id, wrong, location)

    def _note_error(
        self, number: int, method: str, bulk_id: Any, wrong: ScimError, location: str | None = None
    ) -> None:
        self._errors += 1
        result: dict[str, Any] = {"method": method, "status": str(wrong.status), "response": wrong.body()}
        if isinstance(bulk_id, str):
            result["bulkId"] = bulk_id
        if location:
            result["location"] = location
        self._results[number] = result


def read_query(arguments: Mapping[str, str]) -> Query:
    """Return the query in URL parameters (RFC 7644, sections 3.4.2 and 3.9; RFC 9865, section 2).

    Raises:
        ScimError: 400 invalidValue; invalidCount for a wrong count in pages by cursor.
    """
    if arguments.get("attributes") and arguments.get("excludedAttributes"):
        raise invalid_value("Send either attributes or excludedAttributes, not both.")
    cursor = arguments.get("cursor")
    return Query(
        arguments.get("filter") or None,
        _whole_number(arguments, "startIndex", 1),
        _whole_number(arguments, "count", 100, "invalidCount" if cursor is not None else "invalidValue"),
        arguments.get("attributes") or None,
        arguments.get("excludedAttributes") or None,
        arguments.get("sortBy") or None,
        arguments.get("sortOrder") or None,
        cursor,
    )


def read_search_request(payload: Any) -> Query:
    """Return the query of a SearchRequest (RFC 7644, section 3.4.3); raises as `read_query`."""
    return read_query(read_search(payload))


def _whole_number(
    arguments: Mapping[str, str], name: str, otherwise: int, scim_type: str = "invalidValue"
) -> int:
    text = arguments.get(name)
    if not text:
        return otherwise
    try:
        return max(-(2**31), min(int(text), 2**31))
    except ValueError:
        raise ScimError(400, f"'{name}' is '{text[:40]}', but must be a whole number.", scim_type) from None
