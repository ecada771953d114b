"""Extension schemas that an operator adds to a source: read from the document that RFC 7643, section 7,
defines, and checked.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from dravo.core.errors import InvalidInput
from dravo.core.scim.schemas import STANDARD, Attribute, Schema

TYPES = ("string", "boolean", "decimal", "integer", "dateTime", "binary", "reference", "complex")
MOST_ATTRIBUTES = 200
_URN = re.compile(r"urn:[A-Za-z0-9][A-Za-z0-9-]{1,31}:[A-Za-z0-9()+,\-.:=@;$_!*']{1,200}")
_NAME = re.compile(r"[A-Za-z$][\w$-]{0,100}", re.ASCII)
_CHOICES = {
    "mutability": ("readWrite", "readOnly", "immutable", "writeOnly"),
    "returned": ("default", "always", "never", "request"),
    "uniqueness": ("none", "server", "global"),
}


def read_schema(document: Any) -> Schema:
    """Return an extension schema.

    Args:
        document: the JSON of a Schema resource: `id` (its URN), `name`, `description`, `attributes`.

    Raises:
        InvalidInput: in words that name the attribute and the hint.
    """
    if not isinstance(document, Mapping):
        raise _wrong(
            "The schema is not a JSON object.", "Paste the complete schema definition, starting with {."
        )
    urn = document.get("id")
    if not isinstance(urn, str) or not _URN.fullmatch(urn):
        raise _wrong(
            f"'{urn}' is not a schema URN.",
            "Set 'id' to a URN, such as urn:example:params:scim:schemas:garden:2.0:User.",
        )
    if urn.lower() in {schema.id.lower() for schema in STANDARD.schemas}:
        raise _wrong(f"'{urn}' is a standard schema, which exists already.", "Use your own URN.")
    listed = document.get("attributes")
    if not isinstance(listed, list) or not listed:
        raise _wrong(
            "The schema has no attributes.", "Set 'attributes' to a list with at least one attribute."
        )
    if len(listed) > MOST_ATTRIBUTES:
        raise _wrong(
            f"The schema has more than {MOST_ATTRIBUTES} attributes.",
            "Remove attributes that you do not need.",
        )
    name = document.get("name") or urn.rpartition(":")[2]
    return Schema(
        urn, _text(name), _text(document.get("description") or ""), _attributes(listed, inner=False)
    )


def _attributes(listed: list[Any], *, inner: bool) -> tuple[Attribute, ...]:
    found = tuple(_attribute(each, inner=inner) for each in listed)
    names = [attribute.name.lower() for attribute in found]
    for name in names:
        if names.count(name) > 1:
            raise _wrong(
                f"The attribute '{name}' is defined twice.",
                "Delete one of them. Attribute names are case-insensitive.",
            )
    return found


def _attribute(document: Any, *, inner: bool) -> Attribute:
    name = document.get("name") if isinstance(document, Mapping) else None
    if not isinstance(name, str) or not _NAME.fullmatch(name):
        raise _wrong(
            f"'{name}' is not a valid attribute name.",
            "Start the name with a letter, and use letters, digits, - and _.",
        )
    kind = document.get("type", "string")
    if kind not in TYPES or (inner and kind == "complex"):
        raise _wrong(
            f"'{kind}' is not a valid type for '{name}'.",
            f"Use one of: {', '.join(TYPES[: -1 if inner else None])}.",
        )
    sub = document.get("subAttributes") or []
    if (kind == "complex") != bool(sub):
        raise _wrong(f"'{name}' is of type {kind}.", "Use subAttributes only with the type complex.")
    chosen = {key: document.get(key, allowed[0]) for key, allowed in _CHOICES.items()}
    for key, allowed in _CHOICES.items():
        if chosen[key] not in allowed:
            raise _wrong(f"'{key}' of '{name}' is '{chosen[key]}'.", f"Use one of: {', '.join(allowed)}.")
    if chosen["uniqueness"] != "none" and kind == "complex":
        raise _wrong(
            f"'{name}' is a complex attribute and cannot be unique.", "Set its uniqueness to 'none'."
        )
    return Attribute(
        name,
        kind,
        multi_valued=_flag(document, "multiValued"),
        required=_flag(document, "required"),
        case_exact=_flag(document, "caseExact"),
        description=_text(document.get("description") or ""),
        canonical=tuple(_text(each) for each in document.get("canonicalValues") or ()),
        reference_types=tuple(_text(each) for each in document.get("referenceTypes") or ()),
        sub=_attributes(sub, inner=True) if sub else (),
        **chosen,
    )


def _flag(document: Mapping[str, Any], name: str) -> bool:
    value = document.get(name, False)
    if not isinstance(value, bool):
        raise _wrong(f"'{name}' of '{document.get('name')}' is {value!r}.", "Use true or false.")
    return value


def _text(value: Any) -> str:
    if not isinstance(value, str) or len(value) > 1_000:
        raise _wrong(
            f"{str(value)[:40]!r} must be a string of at most 1,000 characters.",
            "Put the value in double quotes.",
        )
    return value


def _wrong(message: str, hint: str) -> InvalidInput:
    return InvalidInput(message, hint, "schema")
