"""The attributes of local users as fields of a form, and as a SCIM User (RFC 7643, sections 4.1 and 4.3)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

from dravo.core.scim.schemas import ENTERPRISE_URN

# By field, where its value is in a SCIM User. Of attributes with several values, the type of the value.
_PLAIN = {
    "user_name": "userName",
    "display_name": "displayName",
    "nick_name": "nickName",
    "title": "title",
    "user_type": "userType",
    "profile_url": "profileUrl",
    "preferred_language": "preferredLanguage",
    "locale": "locale",
    "time_zone": "timezone",
}
_NAME = {
    "given_name": "givenName",
    "middle_name": "middleName",
    "family_name": "familyName",
    "honorific_prefix": "honorificPrefix",
    "honorific_suffix": "honorificSuffix",
}
_PHONES = {"work_phone": "work", "mobile_phone": "mobile"}
_ADDRESS = {
    "street_address": "streetAddress",
    "locality": "locality",
    "region": "region",
    "postal_code": "postalCode",
    "country": "country",
}
_ENTERPRISE = {
    "employee_number": "employeeNumber",
    "cost_center": "costCenter",
    "organization": "organization",
    "division": "division",
    "department": "department",
}


@dataclass(frozen=True)
class LocalFields:
    """The attributes of a local user; "" for no value. `manager` is the ID of a user."""

    user_name: str = ""
    given_name: str = ""
    middle_name: str = ""
    family_name: str = ""
    honorific_prefix: str = ""
    honorific_suffix: str = ""
    display_name: str = ""
    nick_name: str = ""
    email: str = ""
    work_phone: str = ""
    mobile_phone: str = ""
    title: str = ""
    user_type: str = ""
    employee_number: str = ""
    organization: str = ""
    division: str = ""
    department: str = ""
    cost_center: str = ""
    manager: str = ""
    street_address: str = ""
    locality: str = ""
    region: str = ""
    postal_code: str = ""
    country: str = ""
    preferred_language: str = ""
    locale: str = ""
    time_zone: str = ""
    profile_url: str = ""
    active: bool = True


TEXT_FIELDS = tuple(field.name for field in fields(LocalFields) if field.name != "active")


def fields_given(given: Mapping[str, Any]) -> LocalFields:
    """Return the fields of a form, without blanks around them; omitted ones are empty."""
    texts = {name: str(given.get(name) or "").strip() for name in TEXT_FIELDS}
    return LocalFields(**texts, active=given.get("active") is not False)


def as_resource(given: LocalFields) -> dict[str, Any]:
    """Return a SCIM User with the given attributes, without `active`."""
    name = _part(given, _NAME)
    shown = given.display_name or " ".join(filter(None, (given.given_name, given.family_name)))
    extension: dict[str, Any] = _part(given, _ENTERPRISE)
    if given.manager:
        extension["manager"] = {"value": given.manager}
    address = _part(given, _ADDRESS)
    whole: dict[str, Any] = {
        **_part(given, _PLAIN),
        "displayName": shown,
        "name": name,
        "emails": [{"value": given.email, "primary": True}] if given.email else [],
        "phoneNumbers": [
            {"value": number, "type": kind}
            for field, kind in _PHONES.items()
            if (number := getattr(given, field))
        ],
        "addresses": [{**address, "type": "work"}] if address else [],
        ENTERPRISE_URN: extension,
    }
    return {attribute: value for attribute, value in whole.items() if value}


def from_resource(data: Mapping[str, Any]) -> LocalFields:
    """Return the fields of a SCIM User, as `as_resource` writes it.

    The display name is "" where it follows from given name and family name.
    """
    name, extension = data.get("name") or {}, data.get(ENTERPRISE_URN) or {}
    made = " ".join(filter(None, (name.get("givenName"), name.get("familyName"))))
    texts = {
        **{field: data.get(attribute) for field, attribute in _PLAIN.items()},
        **{field: name.get(part) for field, part in _NAME.items()},
        **{field: extension.get(attribute) for field, attribute in _ENTERPRISE.items()},
        **{field: _of_type(data.get("addresses"), "work").get(part) for field, part in _ADDRESS.items()},
        **{field: _of_type(data.get("phoneNumbers"), kind).get("value") for field, kind in _PHONES.items()},
        "email": next((each.get("value") for each in data.get("emails") or ()), None),
        "manager": (extension.get("manager") or {}).get("value"),
    }
    if texts["display_name"] == made:
        texts["display_name"] = ""
    return LocalFields(
        **{field: str(value or "") for field, value in texts.items()}, active=data.get("active") is not False
    )


def _part(given: LocalFields, places: Mapping[str, str]) -> dict[str, str]:
    return {place: value for field, place in places.items() if (value := getattr(given, field))}


def _of_type(values: Any, kind: str) -> Mapping[str, Any]:
    return next((each for each in values or () if each.get("type") == kind), {})
