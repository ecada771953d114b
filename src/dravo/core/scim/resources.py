"""Reads resources that providers send: names as in the schemas, typed values, without what Dravo does not
store.

RFC 7643, sections 2 and 3, with known deviations of providers (booleans as text, a bare ID for `manager`, a
single object for a list, a plain text for an element).
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from dravo.core.identity.names import fold
from dravo.core.scim.errors import ScimError, invalid_syntax, invalid_value, mutability
from dravo.core.scim.paths import locate
from dravo.core.scim.schemas import Attribute, ResourceType

LONGEST_TEXT = 64_000
_ALWAYS = ("schemas", "id")
_NO_TEXT = re.compile("[\x00\ud800-\udfff]")
# An extension's URN or None, an attribute (None: the whole extension), and a sub-attribute or None.
Choice = tuple[str | None, str | None, str | None]


def read_resource(payload: Any, resource_type: ResourceType) -> dict[str, Any]:
    """Return a sent resource with schema names and typed values.

    Read-only attributes, the password, nulls and unknown attributes are left out (RFC 7644, section 3.3:
    read-only attributes are ignored; RFC 7643, section 2.5: null is no value).

    Args:
        payload: the parsed JSON body.
        resource_type: the expected type.

    Raises:
        ScimError: 400 invalidSyntax for no object, invalidValue for a value of the wrong type or a missing
            required one.
    """
    if not isinstance(payload, Mapping):
        raise invalid_syntax(f"The body is not a JSON object. Send one {resource_type.name}.")
    kept: dict[str, Any] = {}
    for key, value in payload.items():
        extension = resource_type.extension_by_urn.get(key.lower())
        if extension:
            inner = read_attributes(value, extension.by_name, extension.id)
            if inner:
                kept[extension.id] = inner
            continue
        attribute = resource_type.by_name.get(key.lower())
        if (
            attribute is None
            or attribute.name == "schemas"
            or attribute.mutability in ("readOnly", "writeOnly")
        ):
            continue
        read = read_value(attribute, value)
        if read is not None:
            kept[attribute.name] = read
    check_resource(kept, resource_type)
    return kept


def check_resource(resource: Mapping[str, Any], resource_type: ResourceType) -> None:
    """Check the resource as a whole: required attributes, and at most one primary element.

    Raises:
        ScimError: 400 invalidValue.
    """
    for attribute in resource_type.schema.attributes:
        if attribute.required and not str(resource.get(attribute.name) or "").strip():
            raise invalid_value(
                f"'{attribute.name}' is missing or empty. It is required for each {resource_type.name}."
            )
    for extension in resource_type.extensions:
        if extension.id in resource:
            for attribute in extension.attributes:
                if attribute.required and resource[extension.id].get(attribute.name) in (None, ""):
                    raise invalid_value(
                        f"'{attribute.name}' of {extension.id} is missing. It is required for this extension."
                    )
    for name, value in resource.items():
        if (
            isinstance(value, list)
            and sum(1 for each in value if isinstance(each, Mapping) and each.get("primary") is True) > 1
        ):
            raise invalid_value(f"More than one value of '{name}' is primary. Mark at most one.")


def check_immutable(before: Mapping[str, Any], after: Mapping[str, Any], resource_type: ResourceType) -> None:
    """Check that immutable attributes keep their value (RFC 7643, section 2.2; RFC 7644, section 3.5.1).

    Raises:
        ScimError: 400 mutability.
    """
    for urn, attribute in resource_type.immutable:
        old = (before.get(urn) or {} if urn else before).get(attribute.name)
        new = (after.get(urn) or {} if urn else after).get(attribute.name)
        if old is not None and old != new:
            raise mutability(f"'{attribute.name}' is immutable.")


def unique_values(resource: Mapping[str, Any], resource_type: ResourceType) -> list[tuple[str, str]]:
    """Return the values that must be unique within the source, as (attribute path, folded value)."""
    found = []
    for urn, attribute in resource_type.unique:
        value = (resource.get(urn) or {}).get(attribute.name)
        for each in value if isinstance(value, list) else [value]:
            if each is not None:
                found.append(
                    (f"{urn}:{attribute.name}", str(each) if attribute.case_exact else fold(str(each)))
                )
    return found


def read_attributes(value: Any, attributes: Mapping[str, Attribute], where: str) -> dict[str, Any]:
    """Return the parts of a complex value or an extension with schema names and typed values."""
    if value is None:
        return {}
    if not isinstance(value, Mapping):
        raise invalid_value(f"'{where}' must be an object.")
    kept = {}
    for key, inner in value.items():
        attribute = attributes.get(key.lower())
        if attribute is None or attribute.mutability in ("readOnly", "writeOnly"):
            continue
        read = read_value(attribute, inner)
        if read is not None:
            kept[attribute.name] = read
    return kept


def read_value(attribute: Attribute, value: Any) -> Any:
    """Return a value of an attribute in its type, or None for no value.

    Raises:
        ScimError: 400 invalidValue.
    """
    if value is None:
        return None
    if not attribute.multi_valued:
        return _read_single(attribute, value)
    elements = value if isinstance(value, list) else [value]
    read = [_read_single(attribute, element) for element in elements]
    return [element for element in read if element not in (None, {})] or None


def _read_single(attribute: Attribute, value: Any) -> Any:
    if attribute.type == "complex":
        # A plain string is taken as the value; so is a number for a single-valued attribute, such as a
        # manager.
        if isinstance(value, str) or (
            isinstance(value, int) and not isinstance(value, bool) and not attribute.multi_valued
        ):
            value = {"value": value} if "value" in attribute.sub_by_name else value
        return read_attributes(value, attribute.sub_by_name, attribute.name) or None
    return _READERS.get(attribute.type, _read_text)(attribute, value)


def _read_text(attribute: Attribute, value: Any) -> str:
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise invalid_value(f"'{attribute.name}' must be a string.")
    return read_text(attribute.name, str(value))


def read_text(name: str, text: str) -> str:
    """Return a text that is valid in an attribute.

    Raises:
        ScimError: 400 invalidValue, for a text that is too long or has invalid characters.
    """
    if len(text) > LONGEST_TEXT:
        raise invalid_value(f"'{name}' is longer than {LONGEST_TEXT} characters.")
    if _NO_TEXT.search(text):
        raise invalid_value(f"'{name}' contains invalid characters.")
    return text


def _read_boolean(attribute: Attribute, value: Any) -> bool:
    if isinstance(value, bool):
        return value
    if isinstance(value, str) and value.strip().lower() in ("true", "false"):
        return value.strip().lower() == "true"
    raise invalid_value(f"'{attribute.name}' must be true or false.")


def _read_number(attribute: Attribute, value: Any) -> int | float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise invalid_value(f"'{attribute.name}' must be a number.")
    return value


def _read_time(attribute: Attribute, value: Any) -> str:
    text = _read_text(attribute, value)
    try:
        datetime.fromisoformat(text)
    except ValueError:
        raise invalid_value(f"'{attribute.name}' must be a time such as 2031-04-02T09:15:00Z.") from None
    return text


def _read_binary(attribute: Attribute, value: Any) -> str:
    text = _read_text(attribute, value)
    try:
        base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        raise invalid_value(f"'{attribute.name}' must be a base64 string.") from None
    return text


_READERS = {
    "boolean": _read_boolean,
    "integer": _read_number,
    "decimal": _read_number,
    "dateTime": _read_time,
    "binary": _read_binary,
}


def read_members(value: Any) -> list[str]:
    """Return the IDs in a list of group members, each once, in their order.

    Raises:
        ScimError: 400 invalidValue, for a member without an id.
    """
    if value is None:
        return []
    ids: dict[str, None] = {}
    for element in value if isinstance(value, list) else [value]:
        member = element.get("value") if isinstance(element, Mapping) else element
        if not isinstance(member, str) or not member:
            raise invalid_value("Each of 'members' needs a 'value': the ID of the user or group in Dravo.")
        ids[member] = None
    return list(ids)


def parse_selection(text: str | None, resource_type: ResourceType) -> tuple[Choice, ...]:
    """Return a comma-separated list of attribute paths as (URN, attribute, sub-attribute); unknown ones are
    passed over.

    RFC 7644, section 3.4.2.5 and 3.9.
    """
    chosen: list[Choice] = []
    for part in (text or "").split(","):
        name = part.strip()
        if not name:
            continue
        extension = resource_type.extension_by_urn.get(name.lower())
        if extension:
            chosen.append((extension.id, None, None))
            continue
        try:
            at = locate(name, resource_type)
        except ScimError:
            continue
        chosen.append((at.urn, at.attribute.name if at.attribute else None, at.sub.name if at.sub else None))
    return tuple(chosen)


def select_attributes(
    resource: dict[str, Any], resource_type: ResourceType, attributes: str | None, excluded: str | None
) -> dict[str, Any]:
    """Return a resource with only, or without, some attributes (RFC 7644, section 3.9).

    Each attribute's `returned` is respected (RFC 7643, section 7): always, never, default or request.

    Raises:
        ScimError: 400 invalidValue for both lists at once.
    """
    if attributes and excluded:
        raise invalid_value("Send either attributes or excludedAttributes, not both.")
    if attributes:
        chosen = parse_selection(attributes, resource_type)
        shown = _only(resource, chosen)
    elif excluded:
        chosen = ()
        shown = _without(resource, parse_selection(excluded, resource_type))
    else:
        chosen, shown = (), resource
    if not resource_type.seldom_returned:
        return shown
    return _as_returned(shown, resource, resource_type, chosen)


def _as_returned(
    shown: dict[str, Any], whole: dict[str, Any], resource_type: ResourceType, chosen: tuple[Choice, ...]
) -> dict[str, Any]:
    for urn, name, sub, when in resource_type.seldom_returned:
        asked_for = any(
            choice in chosen for choice in ((urn, name, sub), (urn, name, None), (urn, None, None))
        )
        if when == "always":
            kept = _only(whole, ((urn, name, sub),))
            if urn and urn in kept:
                shown = {**shown, urn: {**kept[urn], **shown.get(urn, {})}}
            elif not urn and name not in shown:
                shown = {**kept, **shown}
        elif when == "never" or not asked_for:
            shown = _without(shown, ((urn, name, sub),))
            if urn and not shown.get(urn):
                shown.pop(urn, None)
    return shown


def _only(resource: dict[str, Any], chosen: Iterable[Choice]) -> dict[str, Any]:
    kept = {name: resource[name] for name in _ALWAYS if name in resource}
    for urn, name, sub in chosen:
        if name is None:
            if urn is not None and urn in resource:
                kept[urn] = resource[urn]
            continue
        source = resource.get(urn, {}) if urn else resource
        if name not in source:
            continue
        target = kept.setdefault(urn, {}) if urn else kept
        target[name] = _merge_selected(target.get(name), source[name], sub)
    return kept


def _merge_selected(present: Any, value: Any, sub: str | None) -> Any:
    if sub is None:
        return value
    if isinstance(value, list):
        before = present if isinstance(present, list) else [{} for _ in value]
        return [{**old, **_part(each, sub)} for old, each in zip(before, value, strict=True)]
    return {**(present or {}), **_part(value, sub)}


def _part(value: Any, sub: str) -> dict[str, Any]:
    return {sub: value[sub]} if isinstance(value, Mapping) and sub in value else {}


def _without(resource: dict[str, Any], chosen: Iterable[Choice]) -> dict[str, Any]:
    kept = dict(resource)
    for urn, name, sub in chosen:
        if name is None:
            kept.pop(urn or "", None)
            continue
        if urn:
            kept[urn] = dict(kept.get(urn, {}))
        holder = kept[urn] if urn else kept
        if name in _ALWAYS or name not in holder:
            continue
        if sub is None:
            del holder[name]
        elif isinstance(holder[name], list):
            holder[name] = [
                {key: value for key, value in each.items() if key != sub} for each in holder[name]
            ]
        elif isinstance(holder[name], Mapping):
            holder[name] = {key: value for key, value in holder[name].items() if key != sub}
    return kept
