"""Bulk requests (RFC 7644, section 3.7): reading one, and the references between its operations."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.scim.errors import ScimError, invalid_path, invalid_syntax, invalid_value

BULK_RESPONSE = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"
MOST_OPERATIONS = 1_000
LARGEST_PAYLOAD = 4 * 1024 * 1024
METHODS = ("POST", "PUT", "PATCH", "DELETE")
_REFERENCE = re.compile(r"bulkId:([^\"'\s/\]]+)")
_PATH = re.compile(r"/(Users|Groups)(?:/([^/]+))?/?", re.IGNORECASE)


@dataclass(frozen=True)
class BulkOperation:
    """One operation: on "User" or "Group", `identifier` None for a new one."""

    number: int
    method: str
    kind: str
    path: str
    identifier: str | None
    bulk_id: str | None
    version: str | None
    data: Any

    @property
    def needs(self) -> frozenset[str]:
        """The bulkIds of operations that must be done first."""
        return frozenset(references((self.identifier, self.data)))


@dataclass(frozen=True)
class Bulk:
    """A request: its operations (or, for one that cannot be read, why), and after how many errors to stop
    (None: never).
    """

    operations: tuple[BulkOperation | tuple[int, Mapping[str, Any], ScimError], ...]
    fail_on_errors: int | None


def read_bulk(payload: Any) -> Bulk:
    """Return a bulk request; one invalid operation does not affect the others.

    Raises:
        ScimError: 400 invalidSyntax if the request is invalid as a whole, 413 for too many operations.
    """
    if not isinstance(payload, Mapping):
        raise invalid_syntax("The body is not a JSON object. Send a BulkRequest with Operations.")
    parts = {str(key).lower(): value for key, value in payload.items()}
    listed, most = parts.get("operations"), parts.get("failonerrors")
    if not isinstance(listed, list) or not listed:
        raise invalid_syntax("'Operations' is missing or empty. Send a list of operations.")
    if len(listed) > MOST_OPERATIONS:
        raise ScimError(
            413, f"The request has {len(listed)} operations. The maximum is {MOST_OPERATIONS}.", "tooMany"
        )
    if most is not None and (isinstance(most, bool) or not isinstance(most, int) or most < 1):
        raise invalid_value("'failOnErrors' must be a whole number of at least 1.")
    read: list[BulkOperation | tuple[int, Mapping[str, Any], ScimError]] = []
    seen: set[str] = set()
    for number, each in enumerate(listed):
        given = {str(key).lower(): value for key, value in each.items()} if isinstance(each, Mapping) else {}
        try:
            operation = _read_operation(number, given)
            if operation.bulk_id in seen:
                raise invalid_value(f"The bulkId '{operation.bulk_id}' is used twice.")
            if operation.bulk_id:
                seen.add(operation.bulk_id)
            read.append(operation)
        except ScimError as wrong:
            read.append((number, given, wrong))
    return Bulk(tuple(read), most)


def _read_operation(number: int, given: Mapping[str, Any]) -> BulkOperation:
    method = str(given.get("method", "")).upper()
    if method not in METHODS:
        raise invalid_syntax(f"'method' is '{given.get('method', '')}'. Use one of {', '.join(METHODS)}.")
    path = given.get("path")
    match = _PATH.fullmatch(path) if isinstance(path, str) else None
    if match is None:
        raise invalid_path(
            f"'path' is '{str(path)[:80]}'. Use /Users or /Groups, followed by an ID for an existing "
            "resource."
        )
    identifier = match[2]
    if (method == "POST") == bool(identifier):
        raise invalid_path(
            f"{method} needs the path "
            f"'{'/Users or /Groups' if method == 'POST' else '/Users/ID or /Groups/ID'}'."
        )
    bulk_id = given.get("bulkid")
    if bulk_id is not None and (not isinstance(bulk_id, str) or not bulk_id):
        raise invalid_syntax("'bulkId' must be a string.")
    if method == "POST" and bulk_id is None:
        raise invalid_syntax("A POST operation needs a bulkId.")
    if method != "DELETE" and "data" not in given:
        raise invalid_syntax(f"{method} needs 'data'.")
    version = given.get("version")
    kind = "User" if match[1].lower() == "users" else "Group"
    return BulkOperation(
        number,
        method,
        kind,
        str(path),
        identifier,
        bulk_id,
        version if isinstance(version, str) else None,
        given.get("data"),
    )


def references(value: Any) -> Iterable[str]:
    """Yield the bulkIds that a value names, at any depth."""
    if isinstance(value, str):
        yield from (match[1] for match in _REFERENCE.finditer(value))
    elif isinstance(value, Mapping):
        for inner in value.values():
            yield from references(inner)
    elif isinstance(value, list | tuple):
        for inner in value:
            yield from references(inner)


def resolved(value: Any, ids: Mapping[str, str]) -> Any:
    """Return a value with known bulkIds replaced by IDs."""
    if isinstance(value, str):
        return (
            _REFERENCE.sub(lambda match: ids.get(match[1], match[0]), value) if "bulkId:" in value else value
        )
    if isinstance(value, Mapping):
        return {key: resolved(inner, ids) for key, inner in value.items()}
    if isinstance(value, list):
        return [resolved(inner, ids) for inner in value]
    return value


def without_references(operation: BulkOperation) -> tuple[Any, list[dict[str, Any]]]:
    """Return the data of a POST without its references, and the patch operations that add them later.

    Two groups or two users can refer to each other this way (RFC 7644, section 3.7.1: circular references).
    """
    data, later = dict(operation.data), []
    for key, value in operation.data.items():
        if not any(True for _ in references(value)):
            continue
        if isinstance(value, list):
            data[key] = [each for each in value if not any(True for _ in references(each))]
            later.append(
                {
                    "op": "add",
                    "path": key,
                    "value": [each for each in value if any(True for _ in references(each))],
                }
            )
        else:
            del data[key]
            later.append(
                {"op": "add", "path": key, "value": value}
                if ":" not in key
                else {"op": "add", "value": {key: value}}
            )
    return data, later


def next_ready(waiting: Iterable[BulkOperation], ids: Mapping[str, str]) -> BulkOperation | None:
    """Return the first operation whose references are resolved."""
    return next((each for each in waiting if each.needs <= ids.keys()), None)
