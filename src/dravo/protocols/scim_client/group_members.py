"""Members of a group in an application: sent in parts, or as a whole."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import dataclass, field
from typing import Any

import orjson

from dravo.core.provisioning.drift import members_of
from dravo.core.scim.patches import PATCH_SCHEMA
from dravo.core.scim.schemas import GROUP_URN
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.account_sync import segment
from dravo.protocols.scim_client.group_types import (
    Accounts,
    GroupReading,
    MemberConversation,
    Question,
    ReachedGroup,
    WantedGroup,
)
from dravo.protocols.scim_client.responses import Refused, classify

CHUNK = 100


# Minimum length of an ID to be recognized in an error message; shorter ones occur in any text.
LONG_ENOUGH = 6


class NeedsWhole(Exception):
    """The group is deleted there, or the application supports no PATCH: all members must be known."""


@dataclass
class _Part:
    """A change of a group: another name, or members who join or leave."""

    name: str | None = None
    add: tuple[str, ...] = ()
    remove: tuple[str, ...] = ()

    @property
    def members(self) -> tuple[str, ...]:
        return self.add or self.remove

    def operations(self) -> list[dict[str, Any]]:
        if self.name is not None:
            return [{"op": "replace", "path": "displayName", "value": self.name}]
        if self.add:
            return [{"op": "add", "path": "members", "value": [{"value": each} for each in self.add]}]
        return [
            {"op": "remove", "path": f"members[value eq {orjson.dumps(each).decode()}]"}
            for each in self.remove
        ]

    def of(self, members: Sequence[str]) -> _Part:
        """Return the same change of some of the members."""
        return _Part(add=tuple(members)) if self.add else _Part(remove=tuple(members))


@dataclass
class _LeftOut:
    """Refused members, and the application's response about the last of them."""

    add: set[str] = field(default_factory=set)
    remove: set[str] = field(default_factory=set)
    refusal: str = ""
    # Whether the list of accounts was requested.
    looked: bool = False

    def note(self, part: _Part, members: Sequence[str], response: Response) -> None:
        (self.add if part.add else self.remove).update(members)
        self.refusal = f"{response.status}: {response.excerpt}"


class _NoPatch(Exception):
    """The application supports no PATCH."""


def change(wanted: WantedGroup, remote_id: str, origin: str | None) -> MemberConversation:
    """Change an existing group by the differences; None if it does not exist after all.

    Removals are sent first: no member stays because of another one that the application does not know any
    more.
    """
    left_out = _LeftOut()
    parts = [_Part(name=wanted.name)] if wanted.applied_name != wanted.name else []
    for members, add in ((sorted(wanted.remove), False), (sorted(wanted.add), True)):
        for start in range(0, len(members), CHUNK):
            some = tuple(members[start : start + CHUNK])
            parts.append(_Part(add=some) if add else _Part(remove=some))
    if not parts:
        return ReachedGroup(remote_id, origin)
    if not wanted.capabilities.patch:
        return (yield from _replace(wanted, remote_id, origin))
    try:
        for request in _together(parts):
            if not (yield from _patch(remote_id, request, left_out)):
                return None
    except _NoPatch:
        if not wanted.whole:
            raise NeedsWhole from None
        return (yield from _replace(wanted, remote_id, origin))
    if left_out.remove:
        current = yield from read_group(remote_id)
        if current is None:
            return None
        if members_of(current) & left_out.remove:
            raise Refused(
                f"The application did not remove members from the group ({left_out.refusal}).",
                "Remove them in the application.",
                "member_refused",
            )
    return ReachedGroup(remote_id, origin, frozenset(left_out.add), left_out.refusal if left_out.add else "")


def _together(parts: Sequence[_Part]) -> list[list[_Part]]:
    """Return changes as requests: each with at most one list of new members of limited length."""
    requests: list[list[_Part]] = []
    for part in parts:
        last = requests[-1] if requests else []
        full = (part.add and any(each.add for each in last)) or sum(len(each.members) for each in last) + len(
            part.members
        ) > 2 * CHUNK
        if full or not requests:
            requests.append([])
        requests[-1].append(part)
    return requests


def _patch(remote_id: str, parts: Sequence[_Part], left_out: _LeftOut) -> Generator[Question, Any, bool]:
    """Send changes. Refused members are tried one by one, then without those in the response or missing
    accounts, then in halves.

    Returns:
        False if the group does not exist.
    """
    operations = [operation for part in parts for operation in part.operations()]
    path = f"/Groups/{segment(remote_id)}"
    response: Response = yield Request(
        "PATCH", path, body={"schemas": [PATCH_SCHEMA], "Operations": operations}
    )
    if response.status in (405, 501):
        raise _NoPatch
    if response.status not in (400, 404):
        classify(response, "changing the group", empty=True)
        return True
    if response.status == 404 and (yield from read_group(remote_id)) is None:
        return False
    for some in (yield from _apart(parts, response, left_out)):
        if not (yield from _patch(remote_id, [some], left_out)):
            return False
    return True


def _apart(
    parts: Sequence[_Part], response: Response, left_out: _LeftOut
) -> Generator[Question, Any, list[_Part]]:
    """Return what to send in place of refused changes; a change that cannot be split is left out, or
    raised.
    """
    if len(parts) > 1:
        return list(parts)
    part, members = parts[0], parts[0].members
    if not members:
        classify(response, "changing the group", empty=True)
    if len(members) <= 1:
        left_out.note(part, members, response)
        return []
    named = [each for each in members if len(each) >= LONG_ENOUGH and each in response.excerpt]
    if not named and not left_out.looked:
        # Once only: missing members are left out, and existing ones are refused for another reason.
        left_out.looked = True
        there = yield Accounts()
        named = [each for each in members if each not in there] if there is not None else []
    rest = [each for each in members if each not in named]
    if named and rest:
        left_out.note(part, named, response)
        return [part.of(rest)]
    half = len(members) // 2
    return [part.of(members[:half]), part.of(members[half:])]


def _replace(wanted: WantedGroup, remote_id: str, origin: str | None) -> MemberConversation:
    current = yield from read_group(remote_id)
    if current is None:
        return None
    present = members_of(current)
    others = present - wanted.ours
    kept = {
        name: value for name, value in current.items() if name not in ("id", "meta", "members", "schemas")
    }
    left_out: frozenset[str] = frozenset()
    refusal = ""
    # Without the members that the error names.
    members = others | wanted.members
    while True:
        listed = [{"value": each} for each in sorted(members)]
        whole = {
            "schemas": [GROUP_URN],
            **kept,
            "displayName": wanted.name,
            "externalId": wanted.external_id,
            "members": listed,
        }
        response: Response = yield Request("PUT", f"/Groups/{segment(remote_id)}", body=whole)
        if response.status == 404 and (yield from read_group(remote_id)) is None:
            return None
        named = frozenset(
            each for each in members & wanted.members if len(each) >= LONG_ENOUGH and each in response.excerpt
        )
        if response.status not in (400, 404) or not named:
            classify(response, "changing the group", empty=True)
            return ReachedGroup(remote_id, origin, left_out, refusal)
        left_out, members, refusal = (
            left_out | named,
            members - named,
            f"{response.status}: {response.excerpt}",
        )


def read_group(remote_id: str) -> GroupReading:
    """Read a group by its ID in the application; None if it does not exist (404)."""
    response: Response = yield Request("GET", f"/Groups/{segment(remote_id)}")
    return None if response.status == 404 else classify(response, "reading the group")
