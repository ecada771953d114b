"""Known deviations of providers from the standard: they are accepted, and named in the trace."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

OP_CASE = "op in a different letter case (Add, Replace, Remove)"
BOOLEAN_TEXT = "boolean as a string"
DOTTED_KEYS = "PATCH without a path, with paths as keys"
NO_PATH = "PATCH without a path"
REMOVE_BY_VALUE = "members removed by a list instead of a filter in the path"
REPLACE_MEMBERS = "complete list of members replaced"
BARE_MANAGER = "manager as a plain ID"
PRIMARY_TEXT = "filter that compares a boolean with a string"
NO_SCHEMAS = "body without schemas"
NO_PATCH_SCHEMA = "PATCH without its schema"


def quirks(payload: Any) -> list[str]:
    """Return how a body deviates from the standard, each deviation once, in words.

    Args:
        payload: the parsed JSON of a POST, PUT or PATCH.
    """
    if not isinstance(payload, Mapping):
        return []
    parts = {str(key).lower(): value for key, value in payload.items()}
    if isinstance(parts.get("operations"), list):
        found = [NO_PATCH_SCHEMA] if not parts.get("schemas") else []
        for operation in parts["operations"]:
            if isinstance(operation, Mapping):
                found.extend(_of_operation({str(key).lower(): value for key, value in operation.items()}))
    else:
        found = [*([] if parts.get("schemas") else [NO_SCHEMAS]), *_of_attributes(parts)]
    return list(dict.fromkeys(found))


def _of_operation(operation: Mapping[str, Any]) -> Iterator[str]:
    kind, path, value = str(operation.get("op", "")), operation.get("path"), operation.get("value")
    if kind != kind.lower():
        yield OP_CASE
    if isinstance(path, str) and path:
        lowered = path.lower()
        if lowered == "members" and kind.lower() == "remove" and value:
            yield REMOVE_BY_VALUE
        if lowered == "members" and kind.lower() == "replace":
            yield REPLACE_MEMBERS
        if 'primary eq "' in lowered:
            yield PRIMARY_TEXT
        if lowered.endswith("manager") and isinstance(value, str):
            yield BARE_MANAGER
        if _is_boolean_text(value):
            yield BOOLEAN_TEXT
    elif isinstance(value, Mapping):
        yield NO_PATH
        if any(
            "." in key.rpartition(":")[2] or "[" in key or (":" in key and not isinstance(inner, Mapping))
            for key, inner in value.items()
        ):
            yield DOTTED_KEYS
    if isinstance(value, Mapping):
        yield from _of_attributes(value)


def _of_attributes(attributes: Mapping[str, Any]) -> Iterator[str]:
    for key, value in attributes.items():
        if key.lower().endswith("manager") and isinstance(value, str):
            yield BARE_MANAGER
        if key.lower() in ("active", "primary") and _is_boolean_text(value):
            yield BOOLEAN_TEXT
        for inner in value if isinstance(value, list) else [value]:
            if isinstance(inner, Mapping):
                yield from _of_attributes(inner)


def _is_boolean_text(value: Any) -> bool:
    return isinstance(value, str) and value.strip().lower() in ("true", "false")
