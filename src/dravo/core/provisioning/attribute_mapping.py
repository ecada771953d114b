"""How attributes and roles are sent to an application: attributes by expressions, roles in the form that the
application needs.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from dravo.core.errors import InvalidInput
from dravo.core.expressions import Expression
from dravo.core.expressions.functions import text_of
from dravo.core.scim.errors import ScimError
from dravo.core.scim.filters import element_matches
from dravo.core.scim.patches import element_from_filter
from dravo.core.scim.paths import PatchPath, parse_path
from dravo.core.scim.schemas import USER, Attribute
from dravo.core.scim.short_names import full_name

ROLES, ENTITLEMENTS, GROUPS, ATTRIBUTE, NOTHING = "roles", "entitlements", "groups", "attribute", "nothing"
WAYS = (ROLES, ENTITLEMENTS, GROUPS, ATTRIBUTE, NOTHING)
OBJECTS, TEXTS, AS_IT_SAYS = "objects", "strings", "as_declared"
SHAPES = (AS_IT_SAYS, OBJECTS, TEXTS)
_NOT_SET = ("id", "meta", "schemas", "groups", "password", "active", "roles")


@dataclass(frozen=True)
class RoleEncoding:
    """How roles are sent.

    Attributes:
        way: in `roles`, in `entitlements`, as members of groups, in an attribute, or not at all.
        attribute: for the way "attribute", its SCIM path.
        which: "all" roles, or the "highest".
        shape: each role as an object, as a text, or as the schema of the application says.
        value: "key" for the value of a role, which is its key unless it has another one, or "label".
    """

    way: str = ROLES
    attribute: str | None = None
    which: str = "all"
    shape: str = AS_IT_SAYS
    value: str = "key"

    def document(self) -> dict[str, Any]:
        """Return it as JSON."""
        return {
            "way": self.way,
            "attribute": self.attribute,
            "which": self.which,
            "shape": self.shape,
            "value": self.value,
        }

    def sent_for(self, key: str, label: str, sent_value: str | None) -> str | None:
        """Return what is sent for a role or plan, or the name of its group; None where nothing is sent."""
        if self.way == NOTHING:
            return None
        if self.way == GROUPS:
            return sent_value or label
        return label if self.value == "label" else sent_value or key


PLAIN = RoleEncoding()


@dataclass(frozen=True)
class Target:
    """The attribute of an account that an expression fills: a path of the schemas, or (URN, name) of another
    extension.
    """

    text: str
    path: PatchPath | None
    foreign: tuple[str, str] | None = None


def read_target(text: str, not_set: tuple[str, ...] = _NOT_SET) -> Target:
    """Return the target of an expression; attributes in `not_set` are filled by Dravo.

    Raises:
        InvalidInput: for an unknown attribute, or one that Dravo fills itself.
    """
    known = any(
        text.lower().startswith(schema.id.lower() + ":") for schema in (USER.schema, *USER.extensions)
    )
    if text.lower().startswith("urn:") and not known:
        urn, _, name = text.rpartition(":")
        if not name or not urn.partition(":")[2] or "[" in text or "." in name:
            raise InvalidInput(
                f"'{text}' is not an attribute.",
                "Write an extension's attribute as its URN, a colon, and its name.",
                "attribute",
            )
        return Target(text, None, (urn, name))
    try:
        path = parse_path(full_name(text), USER)
    except ScimError as wrong:
        raise InvalidInput(
            wrong.detail, "Use a SCIM name, such as title or name.familyName.", "attribute"
        ) from None
    attribute = path.at.attribute
    if attribute is None or attribute.name in not_set:
        raise InvalidInput(
            f"'{text}' cannot have an expression.",
            "Use the settings for roles and for inactive users.",
            "attribute",
        )
    if attribute.type == "complex" and not attribute.multi_valued and path.at.sub is None:
        raise InvalidInput(
            f"'{text}' is a complex attribute.",
            f"Use a sub-attribute, such as {attribute.name}.{attribute.sub[0].name}.",
            "attribute",
        )
    return Target(text, path)


def put(attributes: dict[str, Any], target: Target, value: Any) -> None:
    """Set an attribute of an account to a value, or remove  (None)."""
    if target.path is None:
        assert target.foreign is not None
        urn, name = target.foreign
        _put_part(attributes, urn, name, _single(value))
        return
    at = target.path.at
    assert at.attribute is not None
    holder: dict[str, Any] = dict(attributes.get(at.urn, {})) if at.urn else attributes
    if at.attribute.multi_valued:
        _put_elements(holder, at.attribute, at.sub, target.path, value)
    elif at.sub is not None:
        _put_part(holder, at.attribute.name, at.sub.name, _typed(at.sub, value))
    else:
        made = _typed(at.attribute, value)
        holder.pop(at.attribute.name, None)
        if made is not None:
            holder[at.attribute.name] = made
    if at.urn:
        attributes.pop(at.urn, None)
        if holder:
            attributes[at.urn] = holder


def _put_part(holder: dict[str, Any], name: str, part: str, value: Any) -> None:
    whole = {key: inner for key, inner in (holder.get(name) or {}).items() if key != part}
    if value is not None:
        whole[part] = value
    holder.pop(name, None)
    if whole:
        holder[name] = whole


def _put_elements(
    holder: dict[str, Any], attribute: Attribute, sub: Attribute | None, path: PatchPath, value: Any
) -> None:
    name = attribute.name
    if path.element is None:
        values = value if isinstance(value, list) else [] if value is None else [value]
        holder.pop(name, None)
        if values:
            holder[name] = [
                {"value": text_of(each), **({"primary": True} if number == 0 else {})}
                for number, each in enumerate(values)
            ]
        return
    key = sub.name if sub else "value"
    elements = [dict(each) for each in holder.get(name, [])]
    chosen = [each for each in elements if element_matches(path.element, each)]
    made = _single(value)
    if made is None:
        elements = [each for each in elements if each not in chosen]
    elif chosen:
        chosen[0][key] = text_of(made)
    else:
        elements.append({**element_from_filter(path.element), key: text_of(made)})
    holder.pop(name, None)
    if elements:
        holder[name] = elements


def _single(value: Any) -> Any:
    return (value[0] if value else None) if isinstance(value, list) else value


def _typed(attribute: Attribute, value: Any) -> Any:
    single = _single(value)
    if single is None:
        return None
    return single if attribute.type in ("boolean", "integer", "decimal") else text_of(single)


def mapped(
    standard: Mapping[str, Any], user: Mapping[str, Any], rows: Sequence[tuple[Target, Expression | None]]
) -> dict[str, Any]:
    """Return the attributes of an account: the standard ones, changed by expressions.

    Args:
        standard: what is sent without expressions.
        user: the attributes of the user.
        rows: in their order, each target with its expression; None leaves it out.
    """
    attributes = dict(standard)
    for target, expression in rows:
        put(attributes, target, expression.result(user) if expression else None)
    return attributes


def carried(roles: Sequence[Mapping[str, Any]], how: RoleEncoding, shape: str = OBJECTS) -> dict[str, Any]:
    """Return the attributes with roles.

    Args:
        roles: as in a desired account, the highest first: {"value": the value, "display": the label}.
        how: the setting of the application.
        shape: the form of "as_declared".
    """
    chosen = list(roles if how.which == "all" else roles[:1])
    names = [str(each["display"] if how.value == "label" else each["value"]) for each in chosen]
    if how.way in (GROUPS, NOTHING):
        return {}
    if how.way in (ROLES, ENTITLEMENTS):
        if (shape if how.shape == AS_IT_SAYS else how.shape) == TEXTS:
            return {how.way: names}
        return {
            how.way: [
                {"value": name, "display": each["display"], "primary": number == 0}
                for number, (each, name) in enumerate(zip(chosen, names, strict=True))
            ]
        }
    target = read_target(how.attribute or "")
    attribute = target.path.at.attribute if target.path else None
    if (
        attribute is not None
        and attribute.multi_valued
        and target.path is not None
        and target.path.element is None
    ):
        return {attribute.name: [{"value": name} for name in names]}
    holder: dict[str, Any] = {}
    put(holder, target, ", ".join(names) or None)
    if holder:
        return holder
    # An explicit empty value, so that the application removes its own.
    if target.path is None:
        assert target.foreign is not None
        return {target.foreign[0]: {target.foreign[1]: None}}
    at = target.path.at
    name = at.attribute.name if at.attribute else ""
    return {at.urn: {name: None}} if at.urn else {name: {at.sub.name: None} if at.sub else None}
