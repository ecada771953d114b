"""How an application as it is differs from as it should be: pure comparison of two lists."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Set
from dataclasses import dataclass
from typing import Any

from dravo.core.provisioning.accounts import ENTERPRISE_PARTS
from dravo.core.scim.schemas import ENTERPRISE_URN

MISSING, UNEXPECTED, DIFFERENT, ROLE, STATUS = "missing", "unexpected", "attributes", "role", "status"
GROUP_MISSING, GROUP_NAME, GROUP_MEMBERS, GROUP_UNEXPECTED = (
    "group_missing",
    "group_name",
    "group_members",
    "group_unexpected",
)
GROUP_KINDS = (GROUP_MISSING, GROUP_NAME, GROUP_MEMBERS, GROUP_UNEXPECTED)
# Accounts without a user here: they are linked or ignored, never repaired.
FOREIGN = (UNEXPECTED, GROUP_UNEXPECTED)
GIVES_ROLES = frozenset({"roles", "entitlements"})
KINDS = (MISSING, UNEXPECTED, DIFFERENT, ROLE, STATUS, *GROUP_KINDS)
# Maximum number of listed members that differ.
NAMED = 20
# Stored attributes of an account without a user: enough to recognize the person, and to create a user.
KEPT = ("userName", "displayName", "name", "title", "externalId", "active", "roles", "emails", ENTERPRISE_URN)


@dataclass(frozen=True)
class Expected:
    """An account as it should be in the application.

    Attributes:
        account_id: the account here.
        remote_id: the ID there; None if it could not be created yet.
        name: the user's name, for operators.
        body: the attributes that Dravo sends.
        carriers: the names of the attributes with roles.
        empty: the names of sent attributes without a value for this user.
    """

    account_id: str
    remote_id: str | None
    name: str
    body: Mapping[str, Any]
    carriers: frozenset[str] = frozenset({"roles"})
    empty: frozenset[str] = frozenset()


@dataclass(frozen=True)
class ExpectedGroup:
    """A provisioned group as it should be in the application.

    Attributes:
        group_id: the provisioned group here.
        remote_id: the ID there; None if it could not be created yet.
        name: its name.
        members: the remote IDs of its members.
    """

    group_id: str
    remote_id: str | None
    name: str
    members: frozenset[str]


@dataclass(frozen=True)
class Drift:
    """One difference: the account or group, or what was found, and the attributes that differ."""

    kind: str
    about: str
    name: str
    account_id: str | None = None
    remote_id: str | None = None
    there: Mapping[str, Any] | None = None
    differences: tuple[Mapping[str, Any], ...] = ()


def compare(
    expected: Iterable[Expected], there: Iterable[Mapping[str, Any]], left_alone: frozenset[str] = frozenset()
) -> Iterator[Drift]:
    """Yield every difference of accounts.

    Args:
        expected: accounts that are in sync, or whose last attempt failed.
        there: all resources of the application.
        left_alone: remote IDs of accounts with open work, or that settings leave alone.
    """
    found = {str(each["id"]): each for each in there}
    known = set(left_alone)
    for account in expected:
        known.add(account.remote_id or "")
        resource = found.get(account.remote_id or "")
        if resource is None:
            yield Drift(MISSING, account.account_id, account.name, account.account_id, account.remote_id)
            continue
        by_kind: dict[str, list[Mapping[str, Any]]] = {}
        for name, value in account.body.items():
            if not agrees(value, resource.get(name)):
                kind = STATUS if name == "active" else ROLE if name in account.carriers else DIFFERENT
                by_kind.setdefault(kind, []).append(
                    {"attribute": name, "before": resource.get(name), "after": value}
                )
        for name, value in _given_there(account, resource):
            kind = ROLE if name in GIVES_ROLES or name in account.carriers else DIFFERENT
            by_kind.setdefault(kind, []).append({"attribute": name, "before": value, "after": None})
        for kind, differences in by_kind.items():
            yield Drift(
                kind,
                account.account_id,
                account.name,
                account.account_id,
                account.remote_id,
                None,
                tuple(differences),
            )
    for remote_id, resource in found.items():
        if remote_id not in known:
            kept = {name: resource[name] for name in KEPT if name in resource}
            yield Drift(
                UNEXPECTED,
                remote_id,
                str(resource.get("displayName") or resource.get("userName") or remote_id),
                None,
                remote_id,
                kept,
            )


def _given_there(account: Expected, resource: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """Yield values in the application of sent attributes that the user does not have."""
    for name in sorted(account.empty):
        if name != ENTERPRISE_URN and resource.get(name) not in (None, "", [], {}):
            yield name, resource[name]
    ours, found = account.body.get(ENTERPRISE_URN), resource.get(ENTERPRISE_URN)
    if isinstance(found, Mapping) and (isinstance(ours, Mapping) or ENTERPRISE_URN in account.empty):
        for part in ENTERPRISE_PARTS:
            if part not in (ours or {}) and found.get(part) not in (None, ""):
                yield f"{ENTERPRISE_URN}:{part}", found[part]


def compare_groups(
    expected: Iterable[ExpectedGroup],
    there: Iterable[Mapping[str, Any]],
    ours: Mapping[str, str],
    left_alone: frozenset[str] = frozenset(),
) -> Iterator[Drift]:
    """Yield how provisioned groups differ from their desired state, and groups that Dravo did not create.

    Members who are no users here are left out.

    Args:
        expected: groups that are in sync, or whose last attempt failed.
        left_alone: remote IDs of groups with open work.
        there: the groups of the application, with their members.
        ours: names of all provisioned users by their remote IDs.
    """
    found = {str(each.get("id")): each for each in there}
    known = set(left_alone)
    for group in expected:
        known.add(group.remote_id or "")
        resource = found.get(group.remote_id or "")
        if resource is None:
            yield Drift(GROUP_MISSING, group.group_id, group.name, None, group.remote_id)
            continue
        name = str(resource.get("displayName", ""))
        if name != group.name:
            renamed = {"attribute": "displayName", "before": name, "after": group.name}
            yield Drift(GROUP_NAME, group.group_id, group.name, None, group.remote_id, None, (renamed,))
        present = members_of(resource) & ours.keys()
        if present != group.members:
            change: dict[str, Any] = {
                "attribute": "members",
                "before": _named(present - group.members, ours),
                "after": _named(group.members - present, ours),
            }
            yield Drift(GROUP_MEMBERS, group.group_id, group.name, None, group.remote_id, None, (change,))
    for remote_id, resource in found.items():
        if remote_id not in known:
            inside = {
                "attribute": "members",
                "before": _named(members_of(resource) & ours.keys(), ours),
                "after": None,
            }
            yield Drift(
                GROUP_UNEXPECTED,
                remote_id,
                str(resource.get("displayName") or remote_id),
                None,
                remote_id,
                None,
                (inside,),
            )


def members_of(resource: Mapping[str, Any]) -> frozenset[str]:
    """Return the member IDs of a group, as the application lists them."""
    listed = resource.get("members")
    if not isinstance(listed, list):
        return frozenset()
    return frozenset(str(each["value"]) for each in listed if isinstance(each, Mapping) and each.get("value"))


def _named(ids: Set[str], names: Mapping[str, str]) -> str | None:
    if not ids:
        return None
    told = sorted(names.get(each, each) for each in ids)
    rest = f" and {len(told) - NAMED:,} more" if len(told) > NAMED else ""
    return f"{', '.join(told[:NAMED])}{rest}"


def agrees(wanted: Any, found: Any) -> bool:
    """Whether a value in the application equals the desired one; undefined parts and the order of lists are
    ignored.
    """
    if wanted in (None, [], {}):
        return found in (None, [], {})
    if isinstance(wanted, Mapping):
        return isinstance(found, Mapping) and all(
            agrees(value, found.get(name)) for name, value in wanted.items()
        )
    if isinstance(wanted, list):
        return (
            isinstance(found, list)
            and len(wanted) == len(found)
            and all(any(agrees(each, other) for other in found) for each in wanted)
        )
    if isinstance(wanted, bool) or isinstance(found, bool):
        # A boolean that is false may be missing.
        return bool(wanted) == bool(found) if found is not None else not wanted
    return str(wanted) == str(found) if found is not None else False
