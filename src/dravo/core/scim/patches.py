"""PATCH (RFC 7644, section 3.5.2): operations applied to a resource, all or none.

A group can have many members, so they are no part of the resource here: operations on `members` are returned
as `MemberChange`s in their order, for the store of memberships.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import orjson

from dravo.core.scim.errors import invalid_path, invalid_syntax, invalid_value, mutability, no_target
from dravo.core.scim.filters import element_matches
from dravo.core.scim.paths import And, Compare, Filter, Location, Or, PatchPath, parse_path
from dravo.core.scim.resources import (
    check_immutable,
    check_resource,
    read_attributes,
    read_members,
    read_value,
)
from dravo.core.scim.schemas import Attribute, ResourceType

PATCH_SCHEMA = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
MOST_OPERATIONS = 1_000


@dataclass(frozen=True)
class MemberChange:
    """One operation on a group's members.

    `kind` is "add", "remove" or "replace" with ids, or "remove_matching" with a filter over single members.
    """

    kind: str
    ids: tuple[str, ...] = ()
    matching: Filter | None = None


@dataclass(frozen=True)
class Operation:
    """One operation as read: its kind in lower case, its target or None for the resource, its value."""

    kind: str
    path: PatchPath | None
    value: Any


@dataclass
class Patched:
    """The result of a patch: the resource, and the changes of members in their order."""

    resource: dict[str, Any]
    members: list[MemberChange] = field(default_factory=list)


def read_operations(payload: Any, resource_type: ResourceType) -> list[Operation]:
    """Return the operations of a PatchOp message; `op` in any letter case.

    Raises:
        ScimError: 400 invalidSyntax, invalidPath, invalidFilter or noTarget.
    """
    if not isinstance(payload, Mapping):
        raise invalid_syntax("The body is not a JSON object. Send a PatchOp with Operations.")
    listed = next((value for key, value in payload.items() if key.lower() == "operations"), None)
    if not isinstance(listed, list) or not listed:
        raise invalid_syntax("'Operations' is missing or empty. Send a list of operations.")
    if len(listed) > MOST_OPERATIONS:
        raise invalid_value(f"The request has more than {MOST_OPERATIONS} operations. Send several requests.")
    return [_read_operation(each, resource_type) for each in listed]


def _read_operation(each: Any, resource_type: ResourceType) -> Operation:
    if not isinstance(each, Mapping):
        raise invalid_syntax("Each of 'Operations' must be an object with op, path and value.")
    parts = {str(key).lower(): value for key, value in each.items()}
    kind = str(parts.get("op", "")).lower()
    if kind not in ("add", "replace", "remove"):
        raise invalid_syntax(f"'op' is '{parts.get('op', '')}'. Use add, replace or remove.")
    path = parts.get("path")
    if path is not None and not isinstance(path, str):
        raise invalid_path("'path' must be a string.")
    target = parse_path(path, resource_type) if path and path.strip() else None
    if kind == "remove" and target is None:
        raise no_target("'remove' needs a path.")
    if kind != "remove" and "value" not in parts:
        raise invalid_value(f"'{kind}' needs a value.")
    return Operation(kind, target, parts.get("value"))


def apply_patch(
    resource: Mapping[str, Any], operations: list[Operation], resource_type: ResourceType
) -> Patched:
    """Return a resource after all operations; the given one is not changed.

    Args:
        resource: as `read_resource` returns it (a group without its members).
        operations: as `read_operations` returns them.
        resource_type: the type with its schemas.

    Raises:
        ScimError: 400, with the keyword of RFC 7644, section 3.5.2; nothing has happened then.
    """
    patched = Patched(orjson.loads(orjson.dumps(resource)))
    for operation in operations:
        _apply(patched, operation, resource_type)
    check_resource(patched.resource, resource_type)
    check_immutable(resource, patched.resource, resource_type)
    return patched


def _apply(patched: Patched, operation: Operation, resource_type: ResourceType) -> None:
    if operation.path is None:
        for each in _expand_pathless(operation, resource_type):
            _apply(patched, each, resource_type)
        return
    at = operation.path.at
    if at.attribute is None:
        _apply_to_extension(patched, operation, at, resource_type)
    elif "readOnly" in (at.attribute.mutability, at.sub.mutability if at.sub else ""):
        raise mutability(f"'{at}' is read-only.")
    elif operation.kind == "remove" and at.attribute.required and at.sub is None:
        raise mutability(f"'{at}' is required and cannot be removed. Replace it.")
    elif at.attribute.name == "members" and resource_type.name == "Group":
        patched.members.append(_member_change(operation))
    elif at.attribute.mutability != "writeOnly":
        _apply_to_attribute(patched, operation, operation.path)


def _expand_pathless(operation: Operation, resource_type: ResourceType) -> list[Operation]:
    """Return an operation without a path as one for each key of its value: a plain name, a dotted or a full
    URN path.
    """
    if not isinstance(operation.value, Mapping):
        raise invalid_value(f"'{operation.kind}' without a path needs an object of attributes as its value.")
    return [
        Operation(operation.kind, parse_path(key, resource_type), value)
        for key, value in operation.value.items()
        if key.lower() not in ("schemas", "id", "meta")
    ]


def _apply_to_attribute(patched: Patched, operation: Operation, path: PatchPath) -> None:
    at, holder = path.at, patched.resource
    if at.urn:
        holder = patched.resource.setdefault(at.urn, {})
    if operation.kind == "remove":
        _remove(holder, at, path.element, operation.value)
    elif path.element is not None:
        _update_matching(holder, at, path.element, operation)
    else:
        _set(holder, at, operation)
    if at.urn and not patched.resource[at.urn]:
        del patched.resource[at.urn]


def _apply_to_extension(
    patched: Patched, operation: Operation, at: Location, resource_type: ResourceType
) -> None:
    assert at.urn is not None
    if operation.kind == "remove":
        patched.resource.pop(at.urn, None)
        return
    schema = resource_type.extension_by_urn[at.urn.lower()]
    given = read_attributes(operation.value, schema.by_name, at.urn)
    merged = {**patched.resource.get(at.urn, {}), **given}
    if merged:
        patched.resource[at.urn] = merged


def _set(holder: dict[str, Any], at: Location, operation: Operation) -> None:
    attribute = at.attribute
    assert attribute is not None
    if at.sub is not None:
        _set_sub(holder, attribute, at.sub, operation)
        return
    value = read_value(attribute, operation.value)
    if attribute.multi_valued and operation.kind == "add":
        holder[attribute.name] = _added(attribute, holder.get(attribute.name, []), value or [])
    elif attribute.type == "complex" and not attribute.multi_valued and value is not None:
        # Sub-attributes that are not named stay unchanged (RFC 7644, sections 3.5.2.1 and 3.5.2.3).
        holder[attribute.name] = {**holder.get(attribute.name, {}), **value}
    elif value is None:
        holder.pop(attribute.name, None)
    else:
        holder[attribute.name] = value


def _set_sub(holder: dict[str, Any], attribute: Attribute, sub: Attribute, operation: Operation) -> None:
    value = read_value(sub, operation.value)
    if not attribute.multi_valued:
        parts = {**holder.get(attribute.name, {}), sub.name: value}
        holder[attribute.name] = {name: part for name, part in parts.items() if part is not None}
        return
    elements = holder.get(attribute.name) or [{}]
    for element in elements:
        if value is None:
            # Null is no value (RFC 7643, section 2.5).
            element.pop(sub.name, None)
        else:
            element[sub.name] = value
    _keep_one_primary(elements, elements[-1] if sub.name == "primary" and value is True else None)
    kept = [element for element in elements if element]
    if kept:
        holder[attribute.name] = kept
    else:
        holder.pop(attribute.name, None)


def _added(attribute: Attribute, present: list[Any], new: list[Any]) -> list[Any]:
    """Return elements with new ones added; an existing one is not added again (RFC 7644, section 3.5.2.1)."""
    result = [dict(each) if isinstance(each, dict) else each for each in present]
    for element in new:
        there = next((each for each in result if _same_value(each, element)), None)
        if there is None:
            result.append(element)
            there = element
        elif isinstance(element, dict) and "primary" in element:
            # The same value with another type or primary flag is not a second value.
            there["primary"] = element["primary"]
        _keep_one_primary(
            result, there if isinstance(element, dict) and element.get("primary") is True else None
        )
    return result


def _same_value(one: Any, other: Any) -> bool:
    """Whether two elements are equal, apart from `primary`."""
    if isinstance(one, dict) and isinstance(other, dict):
        return {**one, "primary": None} == {**other, "primary": None}
    return bool(one == other)


def _keep_one_primary(elements: list[Any], chosen: Any) -> None:
    """Let a new primary element take the mark from the former one (RFC 7644, section 3.5.2)."""
    if chosen is None:
        return
    for element in elements:
        if element is not chosen and isinstance(element, dict) and element.get("primary") is True:
            element["primary"] = False


def _update_matching(
    holder: dict[str, Any], at: Location, element_filter: Filter, operation: Operation
) -> None:
    attribute = at.attribute
    assert attribute is not None
    elements = holder.get(attribute.name, [])
    chosen = [element for element in elements if element_matches(element_filter, element)]
    if not chosen:
        if operation.kind == "replace":
            raise no_target(f"No element of '{attribute.name}' matches. Use add to create one.")
        made = element_from_filter(element_filter)
        elements = [*elements, made]
        chosen = [made]
    for element in chosen:
        if at.sub is not None:
            element[at.sub.name] = read_value(at.sub, operation.value)
        else:
            given = read_attributes(operation.value, attribute.sub_by_name, attribute.name)
            if operation.kind == "replace":
                element.clear()
            element.update(given)
        for name in [name for name, value in element.items() if value is None]:
            del element[name]
    _keep_one_primary(elements, next((each for each in chosen if each.get("primary") is True), None))
    holder[attribute.name] = [element for element in elements if element]


def element_from_filter(tree: Filter) -> dict[str, Any]:
    """Return the element that a filter such as `type eq "work"` describes, to create it."""
    match tree:
        case Compare(at, "eq", value) if at.sub is not None and value is not None:
            return {at.sub.name: value}
        case And(parts):
            described: dict[str, Any] = {}
            for part in parts:
                described.update(element_from_filter(part))
            return described
    raise no_target("No element matches, and the filter does not define a new element.")


def _remove(holder: dict[str, Any], at: Location, element_filter: Filter | None, value: Any) -> None:
    attribute = at.attribute
    assert attribute is not None
    if attribute.name not in holder:
        return
    if element_filter is None and at.sub is None and attribute.multi_valued and value is not None:
        unwanted = read_value(attribute, value) or []
        holder[attribute.name] = [each for each in holder[attribute.name] if not _is_one_of(each, unwanted)]
    elif element_filter is None and at.sub is None:
        del holder[attribute.name]
        return
    elif not attribute.multi_valued:
        assert at.sub is not None
        holder[attribute.name].pop(at.sub.name, None)
    elif at.sub is None:
        assert element_filter is not None
        holder[attribute.name] = [
            each for each in holder[attribute.name] if not element_matches(element_filter, each)
        ]
    else:
        for element in holder[attribute.name]:
            if element_filter is None or element_matches(element_filter, element):
                element.pop(at.sub.name, None)
        holder[attribute.name] = [each for each in holder[attribute.name] if each]
    if not holder[attribute.name]:
        del holder[attribute.name]


def _is_one_of(element: Any, unwanted: list[Any]) -> bool:
    """Whether an element has all parts of an element to remove."""
    if not isinstance(element, Mapping):
        return element in unwanted
    return any(all(element.get(name) == part for name, part in each.items()) for each in unwanted)


def _member_change(operation: Operation) -> MemberChange:
    assert operation.path is not None
    path = operation.path
    if path.at.sub is not None and path.at.sub.name != "value":
        raise mutability(f"'{path.at}' of a member cannot be changed. Remove the member and add another.")
    if operation.kind != "remove":
        if path.element is not None:
            raise mutability("A member cannot be changed. Remove the member and add another.")
        return MemberChange(operation.kind, tuple(read_members(operation.value)))
    if path.element is not None:
        ids = _named_ids(path.element)
        return (
            MemberChange("remove", ids)
            if ids is not None
            else MemberChange("remove_matching", matching=path.element)
        )
    if operation.value is not None:
        return MemberChange("remove", tuple(read_members(operation.value)))
    return MemberChange("replace", ())


def _named_ids(tree: Filter) -> tuple[str, ...] | None:
    """Return the ids that `value eq "a" or value eq "b"` names, or None for any other filter."""
    match tree:
        case Compare(at, "eq", str(value)) if at.sub is not None and at.sub.name == "value":
            return (value,)
        case Or(parts):
            named = [_named_ids(part) for part in parts]
            return (
                tuple(each for ids in named if ids for each in ids)
                if all(ids is not None for ids in named)
                else None
            )
    return None
