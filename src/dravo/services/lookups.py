"""Finds applications, sources, roles, users and groups by key or name, and checks new keys and labels."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping, Sequence

from sqlalchemy import Connection

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.identity.records import LOCAL
from dravo.services.security import masking
from dravo.store.imports import matching as record_matching
from dravo.store.queries import applications as application_rows
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.applications import Application, StoredRole
from dravo.store.queries.groups import NamedGroup
from dravo.store.queries.users import User
from dravo.store.sources import sources as source_rows
from dravo.store.sources.sources import Source


def role_by_key(connection: Connection, application: Application, role_key: str) -> StoredRole:
    """Return a role's row.

    Raises:
        NotFound: if the application has none of that key; the roles that it has are named.
    """
    row = application_rows.role(connection, application.id, role_key)
    if row is None:
        known = ", ".join(application_rows.role_keys(connection, application.id)) or "none yet"
        raise NotFound(
            f"'{application.label}' has no role '{role_key}'.", f"Existing roles: {known}.", "role"
        )
    return row


def application_by_key(connection: Connection, key: str) -> Application:
    """Return the row of an application.

    Raises:
        NotFound.
    """
    row = application_rows.by_key(connection, key)
    if row is None:
        raise NotFound(
            f"There is no application with the key '{key}'.", "Choose a key from the list of applications."
        )
    return row


def pushing_source(connection: Connection, key: str) -> Source:
    """Return the row of a source that calls our SCIM service.

    Raises:
        NotFound; InvalidInput: if it is the organization's own.
    """
    row = source_by_key(connection, key)
    if row.connection_type == LOCAL:
        raise InvalidInput(
            f"'{row.label}' holds local users and groups. It has no connection.",
            "Add a source for the other system.",
        )
    return row


def check_not_retired(source: Source) -> None:
    """Check that a source is not retired.

    Raises:
        InvalidInput.
    """
    if source.retired_at is not None:
        raise InvalidInput(f"'{source.label}' is retired.", "Restore the source first.")


def source_by_key(connection: Connection, key: str, field: str | None = None) -> Source:
    """Return the row of a source; `field` is the input that named it.

    Raises:
        NotFound.
    """
    row = source_rows.by_key(connection, key)
    if row is None:
        raise NotFound(
            f"There is no source with the key '{key}'.", "Choose a key from the list of sources.", field
        )
    return row


KEY = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,62}[a-z0-9])?")


def check_key(key: str) -> str:
    """Return a key that is valid in addresses.

    Raises:
        InvalidInput.
    """
    if not KEY.fullmatch(key):
        raise InvalidInput(
            f"'{key}' is not a valid key.",
            "Use 1 to 64 lowercase letters, digits and hyphens.",
            "key",
        )
    return key


def check_label(label: str) -> str:
    """Return a name for users, without blanks around it.

    Raises:
        InvalidInput: if nothing is left, or it is too long.
    """
    label = label.strip()
    if not label or len(label) > 200:
        raise InvalidInput("A label must have 1 to 200 characters.", "Enter a label of this length.", "label")
    return label


def check_sent_value(value: str) -> str | None:
    """Return a value that is sent to an application for a role or a license plan; None for an empty one.

    Raises:
        InvalidInput: if it is too long or has control characters.
    """
    return _check_text(value, "sent_value", 500)


def check_value_is_free(values: Mapping[str, str], own_key: str, sent_value: str | None, what: str) -> None:
    """Check that no two roles, or license plans, of an application are sent by one value.

    Args:
        values: by key, the value that is sent.
        own_key: the key of the one that gets the value.
        sent_value: its value, None for its key.
        what: "role" or "license plan".

    Raises:
        AlreadyExists.
    """
    value = sent_value or own_key
    for other, others_value in values.items():
        if other != own_key and others_value == value:
            raise AlreadyExists(
                f"The {what} '{other}' is already sent as '{value}'.",
                f"Enter another value. The application could not tell the two {what}s apart.",
                "sent_value",
            )


def check_description(text: str) -> str | None:
    """Return what a role or a license plan permits; None for an empty text.

    Raises:
        InvalidInput: if it is too long or has control characters.
    """
    return _check_text(text, "description", 2_000, breaks="\n\t")


def _check_text(given: str, field: str, longest: int, breaks: str = "") -> str | None:
    if len(given) > longest:
        raise InvalidInput(
            f"The text has {len(given):,} characters.", f"Enter at most {longest:,} characters.", field
        )
    if any(unicodedata.category(each) == "Cc" and each not in breaks for each in given):
        raise InvalidInput("The text contains control characters.", "Delete these characters.", field)
    return given.strip() or None


def find_user(connection: Connection, name: str) -> User:
    """Return the one user with an ID, user name, email or external ID.

    Raises:
        NotFound.
        InvalidInput: for several users.
    """
    return find_users(connection, [name])[0]


def find_users(connection: Connection, names: Sequence[str]) -> list[User]:
    """Return the one user of each name, as `find_user` does, by few queries."""
    named = user_queries.users_named(connection, names, by_attributes=not masking.hidden())
    return [_the_one(name, _decided(connection, named[name])) for name in names]


def _decided(connection: Connection, found: Sequence[User]) -> Sequence[User]:
    """Return users without undecided ones, if there are others: a source must not make an existing name
    ambiguous.
    """
    if len(found) < 2:
        return found
    undecided = record_matching.undecided_users(connection, [row.id for row in found])
    return [row for row in found if row.id not in undecided] or found


def _the_one(name: str, found: Sequence[User]) -> User:
    if not found:
        kinds = "ID or user name" if masking.hidden() else "ID, user name, email or external ID"
        raise NotFound(
            f"There is no user with the {kinds} '{name}'.",
            "Search the list of users for a part of the name.",
            "user",
        )
    present = [row for row in found if row.left_at is None] or found
    if len(present) > 1:
        ids = ", ".join(row.id for row in present[:10])
        raise InvalidInput(f"'{name}' fits {len(present)} users.", f"Use one of these IDs: {ids}.", "user")
    return present[0]


def find_group(connection: Connection, name: str, source_key: str | None) -> NamedGroup:
    """Return the one group of an id, external id or name in a source; the same name in another source is
    another group.

    Raises:
        NotFound, InvalidInput: as `find_user`.
    """
    source = source_by_key(connection, source_key, "source") if source_key else None
    found = group_queries.groups_named(connection, name, source.id if source else None)
    where = f" in '{source_key}'" if source_key else ""
    if not found:
        raise NotFound(
            f"There is no group with the name or ID '{name}'{where}.",
            "Enter the complete group name. The source must have reported the group.",
            "group",
        )
    if len(found) > 1:
        choices = ", ".join(f"{row.id} (of {row.source_key})" for row in found)
        raise InvalidInput(
            f"{len(found)} groups have the name '{name}'{where}.",
            f"Use one of these IDs: {choices}.",
            "group",
        )
    return found[0]
