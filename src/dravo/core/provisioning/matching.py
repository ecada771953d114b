"""The attributes by which an existing account is found: user name, email address, or a chosen one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from dravo.core.errors import InvalidInput
from dravo.core.identity.names import fold
from dravo.core.provisioning.attribute_mapping import read_target

USER_NAME, EMAILS = "userName", "emails"


def match_attribute(name: str, field: str = "adopt_by") -> None:
    """Check an attribute by which accounts are found: one with a single text, or `emails`.

    Raises:
        InvalidInput: for another attribute.
    """
    if name in (USER_NAME, EMAILS):
        return
    hint = "Use userName, emails, or an attribute such as nickName or the URN of an employee number."
    try:
        target = read_target(name)
    except InvalidInput as wrong:
        raise InvalidInput(wrong.message, hint, field) from None
    attribute = target.path.at.attribute if target.path is not None else None
    if target.path is None or (
        attribute is not None and attribute.type == "string" and not attribute.multi_valued
    ):
        return
    raise InvalidInput(
        f"'{name}' is not an attribute with one text.",
        hint,
        field,
    )


def read_adopt_by(given: Iterable[str]) -> list[str]:
    """Return attributes by which accounts are adopted, each once, user names and email addresses first.

    Raises:
        InvalidInput.
    """
    names = [each.strip() for each in given if each.strip()]
    for name in names:
        match_attribute(name)
    first = [each for each in (USER_NAME, EMAILS) if each in names]
    return [*first, *dict.fromkeys(each for each in names if each not in first)]


def check_origin(attribute: str, mapped: Iterable[str]) -> None:
    """Check the attribute that names the origin of accounts.

    Args:
        mapped: the attributes with an expression.

    Raises:
        InvalidInput.
    """
    match_attribute(attribute, "origin_attribute")
    if attribute in (USER_NAME, EMAILS):
        raise InvalidInput(
            f"'{attribute}' cannot name the origin of an account.",
            "Use an attribute that the application keeps for this, such as userType.",
            "origin_attribute",
        )
    if attribute.lower() in {each.lower() for each in mapped}:
        raise InvalidInput(
            f"'{attribute}' has an expression.",
            "Delete the expression, or use another attribute.",
            "origin_attribute",
        )


def filter_path(attribute: str) -> str:
    """Return the attribute path of a filter that finds accounts by an attribute (RFC 7644, 3.4.2.2)."""
    return "emails.value" if attribute == EMAILS else attribute


def values_of(account: Mapping[str, Any], attribute: str) -> list[str]:
    """Return the texts of an attribute of an account, as they are compared: emails and user names without
    letter case.
    """
    if attribute == EMAILS:
        emails = account.get(EMAILS)
        found = (
            [each.get("value") for each in emails if isinstance(each, Mapping)]
            if isinstance(emails, list)
            else []
        )
    elif attribute.lower().startswith("urn:"):
        urn, _, name = attribute.rpartition(":")
        extension = account.get(urn)
        found = [extension.get(name)] if isinstance(extension, Mapping) else []
    else:
        found = [account.get(attribute)]
    return [compared(attribute, each) for each in found if isinstance(each, str) and each]


def compared(attribute: str, text: str) -> str:
    """Return a text of an attribute as it is compared."""
    return fold(text) if attribute in (USER_NAME, EMAILS) else text
