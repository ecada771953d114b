"""Preview of another source policy on a stored import."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

from dravo.core.identity.records import changes, searchable
from dravo.core.identity.source_policy import Refused, SourcePolicy, read_policy
from dravo.protocols.directory.connectors import (
    kind_of,
)
from dravo.protocols.directory.reader import is_made
from dravo.services.context import AppContext
from dravo.services.imports.config import MOST_GROUPS
from dravo.services.sources.policy import import_of, import_policy
from dravo.store.imports import groups as imported_groups
from dravo.store.imports import records as imported_records
from dravo.store.sources.sources import Source


@dataclass
class MadeGroup:
    """A group from user attributes, with its number of members."""

    name: str
    users: int


@dataclass
class PolicyPreviewUser:
    """A user that another source policy would change."""

    name: str
    outcome: str
    changes: list[ChangedAttribute]
    message: str


@dataclass
class PolicyPreviewGroup:
    """A group of the source, and whether it would be accepted."""

    id: str
    name: str
    accepted: bool


@dataclass
class PolicyPreview:
    """The result of another source policy for stored users; `looked_at` is their number."""

    looked_at: int
    accepted: int
    changed: int
    leaves: int
    refused: int
    items: list[PolicyPreviewUser]
    groups: list[PolicyPreviewGroup]
    made_groups: list[MadeGroup]


@dataclass
class ChangedAttribute:
    """An attribute of an account before and after."""

    attribute: str
    before: Any
    after: Any


def try_policy(ctx: AppContext, key: str, given: dict[str, Any]) -> PolicyPreview:
    """Preview another source policy on users that the source reported before. Nothing is changed or read from
    the source.

    Args:
        ctx: the data folder.
        key: the key of the source.
        given: the changed values of the policy, as in `change`.

    Returns:
        the result, with items for the first hundred users who change.
    """
    with ctx.database.reading() as connection:
        source, row = import_of(connection, key)
    kind = kind_of(row.kind)
    policy = read_policy({**import_policy(source, row.kind).document(), **given}, kind.reads)
    counts: dict[str, int] = {"looked_at": 0, "accepted": 0, "changed": 0, "leaves": 0, "refused": 0}
    items: list[PolicyPreviewUser] = []
    made: Counter[str] = Counter()
    after = ""
    while True:
        with ctx.database.reading() as connection:
            some = imported_records.reported(connection, source.id, after)
            rows = imported_records.rows(connection, [each.id for each in some])
        if not some:
            largest = [MadeGroup(name=name, users=users) for name, users in made.most_common(MOST_GROUPS)]
            return PolicyPreview(
                **counts, items=items, groups=_groups_chosen(ctx, source, policy), made_groups=largest
            )
        after = some[-1].id
        for each in some:
            before = rows[each.id].data
            counts["looked_at"] += 1
            outcome, differs, message = "accepted", None, ""
            try:
                user = policy.user(each.reported)
                differs = changes(before, user)
                made.update(policy.made_groups(each.reported))
                outcome = (
                    "leaves" if not policy.lets_in(user, source.key) else "changed" if differs else "accepted"
                )
            except Refused as wrong:
                outcome, message = "refused", f"{wrong.message} {wrong.hint}"
            counts[outcome] += 1
            if outcome != "accepted" and len(items) < 100:
                items.append(
                    PolicyPreviewUser(
                        name=searchable(before).display_name,
                        outcome=outcome,
                        changes=pairs(differs or {}),
                        message=message,
                    )
                )


def _groups_chosen(ctx: AppContext, source: Source, policy: SourcePolicy) -> list[PolicyPreviewGroup]:
    """Return the known groups of a source, and whether the policy accepts each."""
    with ctx.database.reading() as connection:
        rows = imported_groups.groups_by_name(connection, source.id, MOST_GROUPS)
    return [
        PolicyPreviewGroup(
            id=row.id,
            name=row.display_name,
            accepted=policy.groups.takes(row.display_name, row.native_id, row.reference or ""),
        )
        for row in rows
        if not is_made(row.native_id)
    ]


def pairs(differs: dict[str, list[Any]]) -> list[ChangedAttribute]:
    """Return differences as a list."""
    return [ChangedAttribute(attribute=name, before=pair[0], after=pair[1]) for name, pair in differs.items()]
