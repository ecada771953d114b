"""Preview of another source policy on stored records of any connection type. Nothing is changed, and nothing
is read from the source.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.identity.acceptance import (
    DISABLED,
    InboundPolicy,
    ReceivedGroup,
    Standing,
    StoredStanding,
    membership_missing,
    standing,
)
from dravo.core.identity.matching import Binding
from dravo.core.identity.records import IMPORT, INBOUND_SCIM, SIGN_IN, changes, searchable
from dravo.core.identity.source_policy import EVERY, Refused, SourcePolicy
from dravo.protocols.directory.reader import is_made
from dravo.services import jobs
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.context import AppContext
from dravo.services.imports.config import MOST_GROUPS
from dravo.services.ingest.inbound.matching import Matcher, match_with, owned_domains
from dravo.services.policies import inbound as inbound_policies
from dravo.services.policies import policies
from dravo.services.results import ChangedAttribute, pairs
from dravo.services.security.permissions import Caller
from dravo.services.sign_in.settings import rollout
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports import groups as imported_groups
from dravo.store.imports import records as imported_records
from dravo.store.imports.groups import ImportedGroup
from dravo.store.imports.records import ImportedRecord, ReportedEntry
from dravo.store.received import groups as received_groups
from dravo.store.received import members
from dravo.store.received import records as received
from dravo.store.received.records import ReceivedRecord
from dravo.store.sources.sources import Source

ACCEPTED, CHANGED, LEAVES, JOINS, REFUSED, OUTSIDE, WAITS = (
    "accepted",
    "changed",
    "leaves",
    "joins",
    "refused",
    "outside",
    "waits",
)
MOST_ITEMS = 100
PAGE = 500


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
    """The result of another source policy for stored users.

    Attributes:
        looked_at: their number.
        accepted: how many stay unchanged.
        changed, leaves, joins, refused: how many would change, leave, be created or linked, or be refused.
        outside: how many stay outside the scope.
        waits: how many have a change that would wait.
        conflicts, linked: the number of open conflicts, and how many the match rule would link.
        member_of: the names of the groups of which a user must be a member of one.
    """

    looked_at: int = 0
    accepted: int = 0
    changed: int = 0
    leaves: int = 0
    joins: int = 0
    refused: int = 0
    outside: int = 0
    waits: int = 0
    conflicts: int = 0
    linked: int = 0
    items: list[PolicyPreviewUser] = field(default_factory=list)
    groups: list[PolicyPreviewGroup] = field(default_factory=list)
    made_groups: list[MadeGroup] = field(default_factory=list)
    member_of: list[str] = field(default_factory=list)

    def note(self, name: str, outcome: str, differs: dict[str, list[Any]], message: str) -> None:
        """Count the outcome of one user, and show the first users who change."""
        self.looked_at += 1
        setattr(self, outcome, getattr(self, outcome) + 1)
        if outcome not in (ACCEPTED, OUTSIDE) and len(self.items) < MOST_ITEMS:
            self.items.append(PolicyPreviewUser(name, outcome, pairs(differs), message))


def try_policy(
    ctx: AppContext, key: str, connection_type: str, given: Mapping[str, Any], status: str | None = None
) -> PolicyPreview:
    """Preview another source policy, or another status of inbound SCIM, on stored users.

    Args:
        ctx: the data folder.
        key: the key of the source.
        connection_type: "inbound_scim", "import" or "sign_in".
        given: the changed values of the policy, as in `policies.change`.
        status: the status of inbound SCIM; None for the present one.

    Returns:
        the result, with items for the first hundred users who change.

    Raises:
        NotFound, InvalidInput; JobStopped: if the operator stops it.
    """
    with ctx.database.reading() as connection:
        source, policy = policies.wanted(connection, key, connection_type, given)
        total = received.how_many(connection, source.id, connection_type)
    chosen = policy.member_of
    asks = chosen.which != EVERY
    found = PolicyPreview()
    _try_conflicts(ctx, source, policy, connection_type, found)
    if connection_type == INBOUND_SCIM:
        after = inbound_policies.with_status(source, policy, status)
        _try_received(ctx, source, after, total, found)
        with ctx.database.reading() as connection:
            listed = inbound_policies.groups_accepted(connection, source, after)
        found.groups = [PolicyPreviewGroup(*each) for each in listed[:MOST_GROUPS]]
        found.member_of = [
            group.name
            for group in _received_groups(ctx, source)
            if asks and chosen.takes(group.name, *group.ids)
        ]
        return found
    _try_reported(ctx, source, policy, connection_type, total, found)
    if connection_type == IMPORT:
        rows = _imported_groups(ctx, source)
        found.groups = [
            PolicyPreviewGroup(row.id, row.display_name, accepted=policy.groups.takes(*_names(row)))
            for row in rows
        ]
        found.member_of = [row.display_name for row in rows if asks and chosen.takes(*_names(row))]
    return found


def preview_status(
    ctx: AppContext, caller: Caller, key: str, connection_type: str, status: str
) -> ChangeEffects:
    """Return the effects of another status; nothing is changed.

    Raises:
        NotFound, InvalidInput; JobStopped: if the operator stops it.
    """
    policies.check_type(connection_type)
    inbound_policies.check_status(status)
    if connection_type == SIGN_IN:
        return rollout.preview_status(ctx, caller, key, status)
    effects = ChangeEffects()
    if connection_type == IMPORT:
        policies.one(ctx, key, IMPORT)
        effects.add(
            "Import runs become previews and change nothing."
            if status == DISABLED
            else "The next import run applies what it finds. Start a preview run to see it first."
        )
        return effects
    found = try_policy(ctx, key, INBOUND_SCIM, {}, status)
    if status == DISABLED:
        effects.add("Dravo stores what the source sends and changes nothing. Access and accounts stay.")
    for number, one, several in (
        (found.joins, "user is created or linked", "users are created or linked"),
        (found.changed, "user changes", "users change"),
        (found.leaves, "user leaves", "users leave"),
        (found.waits, "user has a change that waits", "users have changes that wait"),
        (found.outside, "user stays outside", "users stay outside"),
    ):
        if number:
            effects.add(f"{count(number, one, several)}.")
    return effects


def _try_conflicts(
    ctx: AppContext, source: Source, policy: SourcePolicy, connection_type: str, found: PolicyPreview
) -> None:
    """Count the open conflicts that the match rule of a policy would link. They stay open until an operator
    decides them.
    """
    with ctx.database.reading() as connection:
        waiting = stored_conflicts.open_users(connection, source.id, connection_type)
        rule = replace(policy, domains=tuple(owned_domains(connection, source.id)))
        found.conflicts = len(waiting)
        for done, data in enumerate(waiting):
            jobs.report_progress(done, len(waiting))
            matched = match_with(connection, Matcher(source.id, connection_type, rule), data)
            found.linked += isinstance(matched, Binding) and not matched.new


# Inbound SCIM


def _try_received(
    ctx: AppContext, source: Source, after: InboundPolicy, total: int, found: PolicyPreview
) -> None:
    last = ""
    while True:
        jobs.report_progress(found.looked_at, total)
        with ctx.database.reading() as connection:
            rows = received.page_of_records(connection, source.id, last, PAGE)
            ids = [row.id for row in rows]
            parents = ctx.catalogue.get(connection).parents
            listed = members.groups_by_record(connection, ids, parents) if after.needs_groups else {}
        if not rows:
            return
        last = rows[-1].id
        for row in rows:
            before = StoredStanding(
                row.user if row.user_id is not None else None, row.left_out, row.deleted_at is not None
            )
            result = standing(after, source.key, row.data, listed.get(row.id, ()), before)
            _note_received(row, result, found)


def _note_received(row: ReceivedRecord, result: Standing, found: PolicyPreview) -> None:
    user = result.in_use or row.data
    name = searchable(row.data).display_name
    if result.waiting is not None:
        found.note(name, WAITS, {}, f"The {result.waiting} waits.")
    elif result.left_out is not None or row.deleted_at is not None:
        found.note(name, LEAVES if row.counts else OUTSIDE, {}, result.message)
    elif not row.counts:
        found.note(name, JOINS, {}, "")
    else:
        differs = changes(row.user, user)
        found.note(name, CHANGED if differs else ACCEPTED, differs, "")


# Imports and sign-ins


def _try_reported(
    ctx: AppContext,
    source: Source,
    policy: SourcePolicy,
    connection_type: str,
    total: int,
    found: PolicyPreview,
) -> None:
    made: Counter[str] = Counter()
    asks = policy.member_of.which != EVERY
    for some, rows, connection in _reported_pages(ctx, source, connection_type):
        jobs.report_progress(found.looked_at, total)
        parents = ctx.catalogue.get(connection).parents if asks else {}
        listed = members.groups_by_record(connection, [each.id for each in some], parents) if asks else {}
        for each in some:
            before, name = rows[each.id].data, searchable(rows[each.id].data).display_name
            try:
                user = policy.user(each.reported)
            except Refused as wrong:
                found.note(name, REFUSED, {}, f"{wrong.message} {wrong.hint}")
                continue
            differs = changes(before, user)
            made.update(policy.made_groups(each.reported))
            if not policy.lets_in(user, source.key):
                found.note(name, LEAVES, differs, f"Outside the scope: {policy.users}.")
            elif asks and (missing := membership_missing(policy, listed.get(each.id, ()))):
                found.note(name, LEAVES, differs, missing)
            else:
                found.note(name, CHANGED if differs else ACCEPTED, differs, "")
    found.made_groups = [MadeGroup(name=name, users=users) for name, users in made.most_common(MOST_GROUPS)]


def _reported_pages(
    ctx: AppContext, source: Source, connection_type: str
) -> Iterator[tuple[list[ReportedEntry], dict[str, ImportedRecord], Connection]]:
    after = ""
    while True:
        with ctx.database.reading() as connection:
            some = imported_records.reported(connection, source.id, after, connection_type=connection_type)
            if not some:
                return
            yield some, imported_records.rows(connection, [each.id for each in some]), connection
        after = some[-1].id


def _imported_groups(ctx: AppContext, source: Source) -> list[ImportedGroup]:
    """Return the groups that an import found, without those made of user attributes."""
    with ctx.database.reading() as connection:
        rows = imported_groups.groups_by_name(connection, source.id, MOST_GROUPS)
    return [row for row in rows if not is_made(row.native_id)]


def _names(row: ImportedGroup) -> tuple[str, ...]:
    return row.display_name, row.native_id, row.reference or ""


def _received_groups(ctx: AppContext, source: Source) -> list[ReceivedGroup]:
    """Return the groups that a source sent through inbound SCIM."""
    with ctx.database.reading() as connection:
        rows = received_groups.groups_of_source(connection, source.id)
    return [row.group for row in rows[:MOST_GROUPS]]
