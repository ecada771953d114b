"""Snapshot and change become a plan: what each touched person's user, access and accounts will be, and why.

The same functions serve a change that is applied and one that is only shown.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from dravo.core import access as access_rules
from dravo.core.access import Access, Assignment, Reason
from dravo.core.accounts import RoleLabel, Settings, due_account
from dravo.core.carrying import GROUPS
from dravo.core.instants import Instant
from dravo.core.merging import MergedUser, merge
from dravo.core.records import PersonRecord


@dataclass(frozen=True)
class Role(RoleLabel):
    """A role with its id and its application's."""

    id: str
    application_id: str


@dataclass(frozen=True)
class Application:
    """An application as far as planning needs it."""

    id: str
    key: str
    label: str
    settings: Settings
    tracked_only: bool = False


@dataclass(frozen=True)
class GroupLabel:
    """A group by name, for reasons that stay readable after it is gone."""

    id: str
    name: str
    source_key: str | None
    source_label: str | None


@dataclass(frozen=True)
class Catalogue:
    """What operators declared, as it stood at one revision."""

    revision: int
    applications: Mapping[str, Application]
    roles: Mapping[str, Role]
    by_group: Mapping[str, tuple[Assignment, ...]]
    parents: Mapping[str, tuple[str, ...]]
    precedence: Mapping[str, int]
    labels: Mapping[str, GroupLabel]
    # For an application the groups that go over to it, and whether its roles go over as groups.
    delivered: Mapping[str, frozenset[str]] = field(default_factory=dict)

    def concerns(self, group_id: str) -> bool:
        """Whether being in a group can give anything: it, or a group around it, is named by an assignment."""
        around = access_rules.memberships((group_id,), self.parents)
        return any(
            membership.group_id in self.by_group or any(membership.group_id in groups for groups in self.delivered.values()) for membership in around
        )


@dataclass(frozen=True)
class HeldAccess:
    """An access that is open: its row, its role, and its reasons as kept (with from and until of each)."""

    id: str
    application_id: str
    role_id: str
    reasons: tuple[dict[str, Any], ...]


@dataclass(frozen=True)
class HeldAccount:
    """An account as it stands: what is due and its version."""

    id: str
    application_id: str
    due: Mapping[str, Any]
    due_version: int


@dataclass(frozen=True)
class Person:
    """All that planning needs to know of one user.

    `revision` is None for a user that is to be made.
    """

    user_id: str
    revision: int | None
    records: tuple[PersonRecord, ...]
    groups: tuple[str, ...] = ()
    direct: tuple[Assignment, ...] = ()
    access: tuple[HeldAccess, ...] = ()
    accounts: tuple[HeldAccount, ...] = ()


@dataclass(frozen=True)
class AccessChange:
    """An access that opens (`id` None), closes (`closed`) or gets other reasons."""

    application_id: str
    role_id: str
    reasons: tuple[dict[str, Any], ...]
    id: str | None = None
    closed: bool = False


@dataclass(frozen=True)
class AccountChange:
    """An account whose due state changes; `id` is None for one that is to be made."""

    application_id: str
    due: Mapping[str, Any]
    due_version: int
    id: str | None = None


@dataclass(frozen=True)
class Outcome:
    """What becomes of one person."""

    person: Person
    user: MergedUser
    access: tuple[AccessChange, ...] = ()
    accounts: tuple[AccountChange, ...] = ()
    next_change: Instant | None = None


def work_out(person: Person, catalogue: Catalogue, now: Instant) -> Outcome:
    """Return what becomes of one person: user, access, accounts.

    Args:
        person: as they will be once the change is in (records, groups, direct assignments), and as they are (access, accounts).
        catalogue: what operators declared.
        now: the instant of the change.
    """
    user = merge(person.records, catalogue.precedence)
    groups = access_rules.memberships(person.groups, catalogue.parents)
    found = access_rules.work_out(
        user.active,
        groups,
        person.direct,
        catalogue.by_group,
        now,
    )
    return Outcome(
        person,
        user,
        tuple(_access_changes(person.access, found, catalogue.labels, now)),
        tuple(_account_changes(person, user, found, frozenset(each.group_id for each in groups), catalogue)),
        found.next_change,
    )


def _access_changes(held: Sequence[HeldAccess], found: Access, labels: Mapping[str, GroupLabel], now: Instant) -> Iterable[AccessChange]:
    open_roles = {(row.application_id, row.role_id): row for row in held}
    for key, row in open_roles.items():
        if key not in found.roles:
            ended = tuple({**reason, "until": reason["until"] or now} for reason in row.reasons)
            yield AccessChange(*key, ended, row.id, closed=True)
    for key, reasons in found.roles.items():
        before = open_roles.get(key)
        if before is None:
            yield AccessChange(*key, tuple(_reason(reason, labels, now) for reason in reasons))
            continue
        kept = _carried_on(before.reasons, reasons, labels, now)
        if kept != before.reasons:
            yield AccessChange(*key, kept, before.id)


def _carried_on(
    before: Sequence[dict[str, Any]], reasons: Sequence[Reason], labels: Mapping[str, GroupLabel], now: Instant
) -> tuple[dict[str, Any], ...]:
    """Return the reasons of an access that goes on: those that ended are closed, new ones open, the others stay."""
    current = {(reason.assignment_id, reason.group_id, reason.through): reason for reason in reasons}
    kept = []
    for row in before:
        key = (row["assignment"], row["group"], tuple(row["through"]))
        if row["until"] is not None:
            kept.append(row)
        elif key in current:
            kept.append(row)
            del current[key]
        else:
            kept.append({**row, "until": now})
    return (*kept, *(_reason(reason, labels, now) for reason in current.values()))


def _reason(reason: Reason, labels: Mapping[str, GroupLabel], now: Instant) -> dict[str, Any]:
    """Return a reason as it is kept: a snapshot that can be read after group and assignment are gone."""
    label = labels.get(reason.group_id) if reason.group_id else None
    return {
        "assignment": reason.assignment_id,
        "group": reason.group_id,
        "group_name": label.name if label else None,
        "source": label.source_key if label else None,
        "source_label": label.source_label if label else None,
        "through": list(reason.through),
        "through_names": [labels[each].name if each in labels else each for each in reason.through],
        "from": now,
        "until": None,
    }


def _account_changes(person: Person, user: MergedUser, found: Access, groups: frozenset[str], catalogue: Catalogue) -> Iterable[AccountChange]:
    if not found.roles and not person.accounts:
        return
    roles: dict[str, list[Role]] = {}
    for application_id, role_id in found.roles:
        roles.setdefault(application_id, []).append(catalogue.roles[role_id])
    held = {account.application_id: account for account in person.accounts}
    for application_id in sorted({*roles, *held}):
        application = catalogue.applications.get(application_id)
        if application is None or application.tracked_only:
            continue
        before = held.get(application_id)
        given = roles.get(application_id, ())
        over = [f"group:{group_id}" for group_id in groups & catalogue.delivered.get(application_id, frozenset())]
        if application.settings.roles_as.way == GROUPS:
            over += [f"role:{role.id}" for role in given]
        due = due_account(person.user_id, user, given, application.settings, before.due if before else None, over)
        if due is None or (before is not None and before.due == due):
            continue
        yield AccountChange(application_id, due, before.due_version + 1 if before else 1, before.id if before else None)


def with_record(person: Person, record: PersonRecord) -> Person:
    """Return a person with one record taken in: in place of the one of that id, or new. One that is gone ends no membership
    by itself; whoever takes it in takes the groups away too."""
    others = tuple(each for each in person.records if each.id != record.id)
    return replace(person, records=(*others, record))


def with_groups(person: Person, added: Iterable[str] = (), removed: Iterable[str] = ()) -> Person:
    """Return a person with groups added and removed."""
    gone = set(removed)
    kept = [group for group in person.groups if group not in gone]
    return replace(person, groups=(*kept, *(group for group in added if group not in kept)))
