"""How an application as it is differs from as it should be: pure comparison of two lists."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.scim.schemas import ENTERPRISE_URN

MISSING, UNEXPECTED, DIFFERENT, ROLE, STATE = "missing", "unexpected", "different", "role", "state"
KINDS = (MISSING, UNEXPECTED, DIFFERENT, ROLE, STATE)
# What is kept of an account that is nobody's here: enough to recognise the person, and to make a user of it.
KEPT = ("userName", "displayName", "name", "title", "externalId", "active", "roles", "emails", ENTERPRISE_URN)


@dataclass(frozen=True)
class Expected:
    """An account as it should be there.

    Attributes:
        account_id: our account.
        remote_id: its id there.
        name: whose it is, for people.
        body: the attributes that we deliver.
        carriers: the names of those that carry roles.
    """

    account_id: str
    remote_id: str
    name: str
    body: Mapping[str, Any]
    carriers: frozenset[str] = frozenset({"roles"})


@dataclass(frozen=True)
class Drift:
    """One difference: what it is about (our account, or what was found), and in which attributes it lies."""

    kind: str
    about: str
    name: str
    account_id: str | None = None
    remote_id: str | None = None
    there: Mapping[str, Any] | None = None
    differences: tuple[Mapping[str, Any], ...] = ()


def compare(expected: Iterable[Expected], there: Iterable[Mapping[str, Any]], left_alone: frozenset[str] = frozenset()) -> Iterator[Drift]:
    """Yield every difference.

    Args:
        expected: accounts of ours that are settled: nothing is due for them.
        there: all resources of the application.
        left_alone: ids there of accounts of ours that are not settled, or that settings leave alone.
    """
    found = {str(each["id"]): each for each in there}
    known = set(left_alone)
    for account in expected:
        known.add(account.remote_id)
        resource = found.get(account.remote_id)
        if resource is None:
            yield Drift(MISSING, account.account_id, account.name, account.account_id, account.remote_id)
            continue
        by_kind: dict[str, list[Mapping[str, Any]]] = {}
        for name, value in account.body.items():
            if not agrees(value, resource.get(name)):
                kind = STATE if name == "active" else ROLE if name in account.carriers else DIFFERENT
                by_kind.setdefault(kind, []).append({"attribute": name, "before": resource.get(name), "after": value})
        for kind, differences in by_kind.items():
            yield Drift(kind, account.account_id, account.name, account.account_id, account.remote_id, None, tuple(differences))
    for remote_id, resource in found.items():
        if remote_id not in known:
            kept = {name: resource[name] for name in KEPT if name in resource}
            yield Drift(UNEXPECTED, remote_id, str(resource.get("displayName") or resource.get("userName") or remote_id), None, remote_id, kept)


def agrees(wanted: Any, found: Any) -> bool:
    """Tell whether a value there says what ours does: parts that we say nothing of, and the order of lists, do not matter."""
    if wanted in (None, [], {}):
        return found in (None, [], {})
    if isinstance(wanted, Mapping):
        return isinstance(found, Mapping) and all(agrees(value, found.get(name)) for name, value in wanted.items())
    if isinstance(wanted, list):
        return isinstance(found, list) and len(wanted) == len(found) and all(any(agrees(each, other) for other in found) for each in wanted)
    if isinstance(wanted, bool) or isinstance(found, bool):
        # A mark that is not set may be left out.
        return bool(wanted) == bool(found) if found is not None else not wanted
    return str(wanted) == str(found) if found is not None else False
