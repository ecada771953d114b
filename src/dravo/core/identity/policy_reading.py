"""Reads source policies from documents, and checks every value."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from dravo.core.access.conditions import Condition, read_condition
from dravo.core.errors import InvalidInput
from dravo.core.expressions import compile_expression
from dravo.core.expressions.functions import compiled
from dravo.core.identity.names import fold
from dravo.core.identity.source_policy import (
    ASK,
    CHOICES,
    EVERY,
    LONGEST_NAME,
    MATCHES,
    NAMED,
    NONE,
    NOT_FILLED,
    PATTERN,
    GroupChoice,
    SourcePolicy,
)
from dravo.core.provisioning.attribute_mapping import read_target
from dravo.core.scim.short_names import full_name


def read_policy(
    document: Mapping[str, Any], reads: str, *, as_sent: bool = False, owned: Collection[str] = ()
) -> SourcePolicy:
    """Return the policy in a document, checked.

    Args:
        document: the policy as JSON.
        reads: what the expressions read, `ENTRY` or `SCIM_USER`.
        as_sent: whether attributes without an expression stay as the source sent them.
        owned: domains that the source owns apart from the document.

    Raises:
        InvalidInput: with the name of the wrong value.
    """
    match = _one_of(document.get("match", ASK), MATCHES, "match")
    domains = tuple(dict.fromkeys(_domain(each) for each in document.get("domains") or ()))
    if match != ASK and not domains and not owned:
        raise InvalidInput(
            "The domains of the source are missing.",
            "Add at least one domain (field `domains`), or set `match` to ask.",
            "domains",
        )
    users = str(document.get("users") or "").strip()
    if users and _scope(users).asks_groups:
        raise InvalidInput(
            "The scope cannot use groups, because users are read before groups.",
            "Use attributes in the filter, and name groups under `member_of`.",
            "users",
        )
    attributes = tuple(
        (str(each["attribute"]).strip(), str(each["expression"])) for each in document.get("attributes") or ()
    )
    names = [full_name(read_target(attribute, NOT_FILLED).text).lower() for attribute, _ in attributes]
    for number, (attribute, text) in enumerate(attributes):
        if names.index(names[number]) != number:
            raise InvalidInput(f"'{attribute}' has two expressions.", "Delete one of them.", "attributes")
        try:
            compile_expression(text, reads)
        except InvalidInput as wrong:
            raise InvalidInput(f"{attribute}: {wrong.message}", wrong.hint, "attributes") from None
    if "username" not in names and not as_sent:
        raise InvalidInput("The expression for userName is missing.", "Add a row for userName.", "attributes")
    groups, makes, pilot = (
        read_group_choice(document.get("groups") or {}, "groups"),
        bool(document.get("makes", True)),
        str(document.get("pilot") or "").strip(),
    )
    groups_from = tuple(text for each in document.get("groups_from") or () if (text := str(each).strip()))
    for text in groups_from:
        try:
            compile_expression(text, reads)
        except InvalidInput as wrong:
            raise InvalidInput(f"Groups from '{text}': {wrong.message}", wrong.hint, "groups_from") from None
    gives = tuple(dict.fromkeys(name for each in document.get("gives") or () if (name := str(each).strip())))
    if any(len(each) > LONGEST_NAME for each in gives):
        raise InvalidInput(
            f"A group name can have at most {LONGEST_NAME} characters.", "Use a shorter name.", "gives"
        )
    return SourcePolicy(
        match,
        domains,
        users,
        groups,
        makes,
        attributes,
        reads,
        pilot,
        groups_from,
        gives,
        _membership(document.get("member_of") or {}),
        as_sent,
    )


def _scope(text: str) -> Condition:
    try:
        return read_condition(text)
    except InvalidInput as wrong:
        message = wrong.message.removeprefix("The rule is invalid: ").removeprefix("The rule ")
        raise InvalidInput(f"The scope is invalid: {message}", wrong.hint, "users") from None


def _membership(document: Mapping[str, Any]) -> GroupChoice:
    choice = read_group_choice(document, "member_of")
    if choice.which == NONE:
        raise InvalidInput(
            "Members of no group would be accepted, so nobody would be.",
            "Name groups, enter a pattern, or choose all to accept users without a group.",
            "member_of",
        )
    return choice


def _one_of(value: Any, choices: Sequence[str], name: str) -> str:
    if value not in choices:
        raise InvalidInput(
            f"'{value}' is not a valid value for '{name}'.", f"Use one of: {', '.join(choices)}.", name
        )
    return str(value)


def read_domains(texts: Sequence[str]) -> list[str]:
    """Return email domains in folded form, without duplicates.

    Raises:
        InvalidInput: if one is not a domain.
    """
    return list(dict.fromkeys(_domain(each) for each in texts))


def _domain(text: str) -> str:
    domain = fold(text.strip().removeprefix("@"))
    if "." not in domain or any(sign.isspace() or sign in "@/\\,;" for sign in domain):
        raise InvalidInput(
            f"'{text}' is not a domain.", "Enter a domain such as fernhollow.example.", "domains"
        )
    return domain


def read_group_choice(document: Mapping[str, Any], field_name: str) -> GroupChoice:
    """Return a choice of groups.

    Args:
        document: "which" (`CHOICES`), and with it "names" (names or IDs) or "pattern".
        field_name: the field that errors name.

    Raises:
        InvalidInput: for an empty list, or a pattern that is no RE2 pattern.
    """
    which = _one_of(document.get("which", EVERY), CHOICES, field_name)
    names = tuple(dict.fromkeys(each.strip() for each in document.get("names") or () if each.strip()))
    pattern = str(document.get("pattern") or "")
    if which == NAMED and not names:
        raise InvalidInput(
            "The list of groups is empty.", "Add groups, one per line, or choose all groups.", field_name
        )
    if which == PATTERN:
        try:
            compiled(pattern)
        except ValueError as wrong:
            raise InvalidInput(
                f"The pattern is invalid: {wrong}.", "Use the RE2 syntax, such as ^Estates.", field_name
            ) from None
        if not pattern:
            raise InvalidInput(
                "The pattern is empty.", "Enter a pattern such as ^Estates, or choose all groups.", field_name
            )
    return GroupChoice(which, names if which == NAMED else (), pattern if which == PATTERN else "")
