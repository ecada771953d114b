"""Short names of user attributes, which rules and expressions know beside the names of the schemas."""

from __future__ import annotations

from dravo.core.scim.schemas import ENTERPRISE_SCHEMA

# By the short name in lower case: attributes of the enterprise extension, the manager (by ID), and the parts
# of the name.
SHORT_NAMES = {
    **{
        attribute.name.lower(): f"{ENTERPRISE_SCHEMA.id}:{attribute.name}"
        for attribute in ENTERPRISE_SCHEMA.attributes
    },
    "manager": f"{ENTERPRISE_SCHEMA.id}:manager.value",
    "manager.value": f"{ENTERPRISE_SCHEMA.id}:manager.value",
    "manager.displayname": f"{ENTERPRISE_SCHEMA.id}:manager.displayName",
    "givenname": "name.givenName",
    "familyname": "name.familyName",
}


def full_name(text: str) -> str:
    """Return the complete name for a short one; other names stay."""
    return SHORT_NAMES.get(text.lower(), text)
