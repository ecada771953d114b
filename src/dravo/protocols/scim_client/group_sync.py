"""Brings one group of an application to its desired state: its name and its members, as differences to the
applied state.
"""

from __future__ import annotations

from collections.abc import Generator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import orjson

from dravo.core.identity.names import fold
from dravo.core.provisioning.drift import members_of
from dravo.core.scim.patches import PATCH_SCHEMA
from dravo.core.scim.schemas import GROUP_URN
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.account_sync import ADOPTED, CAN_ALL, MADE, FullListQuery, segment
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import Refused, RetryableError, classify

CHUNK = 100
# Minimum length of an ID to be recognized in an error message; shorter ones occur in any text.
LONG_ENOUGH = 6


@dataclass(frozen=True)
class WantedGroup:
    """The desired group, and what is known.

    Attributes:
        external_id: our external ID, by which the group is recognized.
        name: the desired name; None to delete the group.
        whole: whether `members` and `ours` are given; without them only differences can be sent.
        look: whether to read the group first, because its applied state is not certain.
        members: the remote IDs of all desired members.
        add, remove: the differences to the applied state.
        ours: the remote IDs of all provisioned users; other members are left alone.
        agreed_name: the applied name.
        remote_id: the ID there, if known.
        origin: how the group was found.
        adopt: whether an unlinked group with the name may be adopted.
        capabilities: the capabilities of the application.
    """

    external_id: str
    name: str | None
    whole: bool = True
    look: bool = False
    members: frozenset[str] = frozenset()
    add: frozenset[str] = frozenset()
    remove: frozenset[str] = frozenset()
    ours: frozenset[str] = frozenset()
    applied_name: str | None = None
    remote_id: str | None = None
    origin: str | None = None
    adopt: bool = False
    capabilities: Capabilities = CAN_ALL


@dataclass(frozen=True)
class ReachedGroup:
    """The result for a group.

    Attributes:
        remote_id: the group's ID there; None without a group.
        origin: how it was found.
        left_out: remote IDs of members that the application refused: most often these accounts are deleted
            there.
        refusal: its response about the last of them.
    """

    remote_id: str | None
    origin: str | None = None
    left_out: frozenset[str] = frozenset()
    refusal: str = ""


class NeedsWhole(Exception):
    """The group is deleted there, or the application supports no PATCH: all members must be known."""


@dataclass(frozen=True)
class Accounts:
    """Asks the caller for the IDs of all accounts, from a recent list.

    Sent a set of IDs, or None without such a list.
    """


Question = Request | FullListQuery | Accounts
Conversation = Generator[Question, Any, ReachedGroup]


def bring_group(wanted: WantedGroup) -> Conversation:
    """Bring a group to its desired state.

    Yields:
        Requests, and is sent their responses; `FullListQuery`, and is sent the list of all groups;
            `Accounts`.

    Raises:
        RetryableError, ConnectionPausedError, Refused.
        NeedsWhole: if only differences were given, and they are not enough.
    """
    if wanted.name is None:
        return (yield from _remove(wanted))
    if wanted.remote_id is not None:
        if wanted.look:
            current = yield from _get(wanted.remote_id)
            changed = (
                (yield from _change(_against(wanted, current), wanted.remote_id, wanted.origin))
                if current is not None
                else None
            )
        else:
            changed = yield from _change(wanted, wanted.remote_id, wanted.origin)
        if changed is not None:
            return changed
        if not wanted.whole:
            raise NeedsWhole
    for _ in range(2):
        found = yield from _look(wanted)
        if found is not None:
            resource, origin = found
            present = members_of(resource)
            there = replace(
                wanted,
                applied_name=str(resource.get("displayName", "")),
                add=wanted.members - present,
                remove=(present & wanted.ours) - wanted.members,
            )
            changed = yield from _change(there, str(resource["id"]), origin)
            if changed is not None:
                return changed
            continue
        put = frozenset(sorted(wanted.members)[:CHUNK])
        response: Response = yield Request("POST", "/Groups", body=_new(wanted, put))
        if response.status in (400, 404) and put:
            # One refused member must not block the others: create the group first, then add members.
            put = frozenset()
            response = yield Request("POST", "/Groups", body=_new(wanted, put))
        if response.status == 409:
            continue
        body = classify(response, "creating the group")
        if not body.get("id"):
            raise RetryableError("The application created the group, but returned no ID.")
        made, rest = str(body["id"]), wanted.members - put
        changed = (
            (
                yield from _change(
                    replace(wanted, applied_name=wanted.name, add=rest, remove=frozenset()), made, MADE
                )
            )
            if rest
            else None
        )
        return changed or ReachedGroup(made, MADE)
    raise Refused(
        f"The application says that a group '{wanted.name}' exists (409), but returns none.",
        "Find the group in the application.",
    )


def _against(wanted: WantedGroup, resource: Mapping[str, Any]) -> WantedGroup:
    """Return the changes of a group against its current state; members who are not provisioned are left
    alone.
    """
    present = members_of(resource)
    name = str(resource.get("displayName", ""))
    return replace(
        wanted,
        applied_name=name,
        add=wanted.members - present,
        remove=(present & wanted.ours) - wanted.members,
    )


def _new(wanted: WantedGroup, put: frozenset[str]) -> dict[str, Any]:
    members = [{"value": each} for each in sorted(put)]
    body: dict[str, Any] = {
        "schemas": [GROUP_URN],
        "displayName": wanted.name,
        "externalId": wanted.external_id,
    }
    return {**body, "members": members} if members else body


def _look(wanted: WantedGroup) -> Generator[Question, Any, tuple[Mapping[str, Any], str] | None]:
    own = [
        each
        for each in (yield from _search(wanted, "externalId", wanted.external_id))
        if each.get("externalId") == wanted.external_id
    ]
    if own:
        return (yield from _get(str(own[0]["id"]))) or own[0], MADE
    name = wanted.name or ""
    same = [
        each
        for each in (yield from _search(wanted, "displayName", name))
        if fold(str(each.get("displayName", ""))) == fold(name)
    ]
    if not same:
        return None
    if len(same) > 1:
        raise Refused(
            f"{len(same)} groups have the name '{name}'.", "Rename all but one of them in the application."
        )
    if same[0].get("externalId"):
        raise Refused(
            f"The group '{name}' belongs to another system (external ID {same[0]['externalId']}).",
            "Rename one of the two groups.",
        )
    if not wanted.adopt:
        raise Refused(
            f"A group '{name}' exists already and was not created by Dravo.",
            "To manage this group with Dravo, enable adopting groups by name. Otherwise set another "
            "name for the provisioned group.",
        )
    return (yield from _get(str(same[0]["id"]))) or same[0], ADOPTED


def _search(
    wanted: WantedGroup, attribute: str, value: str
) -> Generator[Question, Any, list[Mapping[str, Any]]]:
    if wanted.capabilities.filter:
        response: Response = yield Request(
            "GET", "/Groups", {"filter": f"{attribute} eq {orjson.dumps(value).decode()}"}
        )
        if not (response.status in (400, 405, 501) and response.body is not None):
            body = classify(response, "looking for the group")
            return [
                each for each in body.get("Resources") or [] if isinstance(each, Mapping) and each.get("id")
            ]
    listed = yield FullListQuery()
    if listed is None:
        raise Refused(
            "The groups of the application can be neither searched nor listed.",
            "Dravo creates no group, because it could create a duplicate.",
        )
    return list(listed)


def _get(remote_id: str) -> Generator[Question, Any, Mapping[str, Any] | None]:
    response: Response = yield Request("GET", f"/Groups/{segment(remote_id)}")
    return None if response.status == 404 else classify(response, "reading the group")


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


def _change(
    wanted: WantedGroup, remote_id: str, origin: str | None
) -> Generator[Question, Any, ReachedGroup | None]:
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
        current = yield from _get(remote_id)
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
    if response.status == 404 and (yield from _get(remote_id)) is None:
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


def _replace(
    wanted: WantedGroup, remote_id: str, origin: str | None
) -> Generator[Question, Any, ReachedGroup | None]:
    current = yield from _get(remote_id)
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
        if response.status == 404 and (yield from _get(remote_id)) is None:
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


def _remove(wanted: WantedGroup) -> Conversation:
    if wanted.remote_id is None:
        return ReachedGroup(None)
    if wanted.origin == MADE:
        response: Response = yield Request("DELETE", f"/Groups/{segment(wanted.remote_id)}")
        if response.status != 404:
            classify(response, "deleting the group", empty=True)
        return ReachedGroup(None)
    # The group existed before Dravo: only the users of Dravo are removed.
    yield from _change(replace(wanted, name=wanted.applied_name), wanted.remote_id, wanted.origin)
    return ReachedGroup(None)
