"""Brings one group of an application to what is due: its name and its members, as differences to what was agreed last."""

from __future__ import annotations

from collections.abc import Generator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import orjson

from dravo.core.drift import members_of
from dravo.core.records import fold
from dravo.core.scim.patches import PATCH_SCHEMA
from dravo.core.scim.schemas import GROUP_URN
from dravo.protocols.scim.capabilities import Capabilities
from dravo.protocols.scim.conversation import ADOPTED, CAN_ALL, MADE, Everybody, segment
from dravo.protocols.scim.judging import Refused, TryLater, judged
from dravo.protocols.scim.outgoing import Request, Response

CHUNK = 100


@dataclass(frozen=True)
class WantedGroup:
    """What is to be reached, and what is known.

    Attributes:
        external_id: ours, by which the group there is known as ours.
        name: its name there; None if it is to go.
        whole: whether `members` and `ours` are given; without them only a change in part is possible.
        look: whether to read the group before changing it, for what was agreed last may not be what stands there.
        members: ids there of all who are due.
        add, remove: how that differs from what was agreed last.
        ours: ids there of everybody whom we deliver: others in the group are left alone.
        agreed_name: the name that was agreed last.
        remote_id: its id there, if that is known.
        origin: how we came by it.
        adopt: whether a group of that name that is nobody's may be taken over.
        capabilities: what the application can do.
    """

    external_id: str
    name: str | None
    whole: bool = True
    look: bool = False
    members: frozenset[str] = frozenset()
    add: frozenset[str] = frozenset()
    remove: frozenset[str] = frozenset()
    ours: frozenset[str] = frozenset()
    agreed_name: str | None = None
    remote_id: str | None = None
    origin: str | None = None
    adopt: bool = False
    capabilities: Capabilities = CAN_ALL


@dataclass(frozen=True)
class ReachedGroup:
    """The group's id there (None if there is none), and how we came by it."""

    remote_id: str | None
    origin: str | None = None


class NeedsWhole(Exception):
    """The group is gone there, or takes no changes in part: it has to be gone about with all of its members known."""


Conversation = Generator[Request | Everybody, Any, ReachedGroup]


def bring_group(wanted: WantedGroup) -> Conversation:
    """Bring a group to what is due.

    Yields:
        Requests, and is sent their responses; `Everybody`, and is sent the list of all groups there.

    Raises:
        TryLater, MustPause, Refused; NeedsWhole if only the differences were given, and that is not enough.
    """
    if wanted.name is None:
        return (yield from _remove(wanted))
    if wanted.remote_id is not None:
        if wanted.look:
            current = yield from _get(wanted.remote_id)
            if current is not None and (yield from _change(_against(wanted, current), wanted.remote_id)):
                return ReachedGroup(wanted.remote_id, wanted.origin)
        elif (yield from _change(wanted, wanted.remote_id)):
            return ReachedGroup(wanted.remote_id, wanted.origin)
        if not wanted.whole:
            raise NeedsWhole
    for _ in range(2):
        found = yield from _look(wanted)
        if found is not None:
            resource, origin = found
            present = members_of(resource)
            there = replace(
                wanted,
                agreed_name=str(resource.get("displayName", "")),
                add=wanted.members - present,
                remove=(present & wanted.ours) - wanted.members,
            )
            if (yield from _change(there, str(resource["id"]))):
                return ReachedGroup(str(resource["id"]), origin)
            continue
        response: Response = yield Request("POST", "/Groups", body=_new(wanted))
        if response.status == 409:
            continue
        body = judged(response, "making the group")
        if not body.get("id"):
            raise TryLater("The application made the group and did not tell its id.")
        made, rest = str(body["id"]), sorted(wanted.members)[CHUNK:]
        if rest:
            yield from _change(replace(wanted, agreed_name=wanted.name, add=frozenset(rest), remove=frozenset()), made)
        return ReachedGroup(made, MADE)
    raise Refused(f"The application says that a group '{wanted.name}' exists (409), and shows none.", "Look for the group there.")


def _against(wanted: WantedGroup, resource: Mapping[str, Any]) -> WantedGroup:
    """Return what is to be done to a group as it stands there; members who are not ours are left alone."""
    present = members_of(resource)
    name = str(resource.get("displayName", ""))
    return replace(wanted, agreed_name=name, add=wanted.members - present, remove=(present & wanted.ours) - wanted.members)


def _new(wanted: WantedGroup) -> dict[str, Any]:
    members = [{"value": each} for each in sorted(wanted.members)[:CHUNK]]
    body: dict[str, Any] = {"schemas": [GROUP_URN], "displayName": wanted.name, "externalId": wanted.external_id}
    return {**body, "members": members} if members else body


def _look(wanted: WantedGroup) -> Generator[Request | Everybody, Any, tuple[Mapping[str, Any], str] | None]:
    own = [each for each in (yield from _search(wanted, "externalId", wanted.external_id)) if each.get("externalId") == wanted.external_id]
    if own:
        return (yield from _get(str(own[0]["id"]))) or own[0], MADE
    name = wanted.name or ""
    same = [each for each in (yield from _search(wanted, "displayName", name)) if fold(str(each.get("displayName", ""))) == fold(name)]
    if not same:
        return None
    if len(same) > 1:
        raise Refused(f"{len(same)} groups there are called '{name}'.", "Rename all but one of them there.")
    if same[0].get("externalId"):
        raise Refused(f"The group '{name}' there belongs to another system (external id {same[0]['externalId']}).", "Rename one of the two.")
    if not wanted.adopt:
        raise Refused(
            f"A group called '{name}' is there already, made by somebody else.",
            "If it is to be kept by Dravo, switch on 'adopt groups by name' for this application; else give ours another name.",
        )
    return (yield from _get(str(same[0]["id"]))) or same[0], ADOPTED


def _search(wanted: WantedGroup, attribute: str, value: str) -> Generator[Request | Everybody, Any, list[Mapping[str, Any]]]:
    if wanted.capabilities.filter:
        response: Response = yield Request("GET", "/Groups", {"filter": f"{attribute} eq {orjson.dumps(value).decode()}"})
        if not (response.status in (400, 405, 501) and response.body is not None):
            body = judged(response, "looking for the group")
            return [each for each in body.get("Resources") or [] if isinstance(each, Mapping) and each.get("id")]
    listed = yield Everybody()
    if listed is None:
        raise Refused("The application's groups can neither be searched nor listed.", "Without looking, a group could be made twice.")
    return list(listed)


def _get(remote_id: str) -> Generator[Request | Everybody, Any, Mapping[str, Any] | None]:
    response: Response = yield Request("GET", f"/Groups/{segment(remote_id)}")
    return None if response.status == 404 else judged(response, "reading the group")


def _change(wanted: WantedGroup, remote_id: str) -> Generator[Request | Everybody, Any, bool]:
    """Change a group that is there by what differs; False if it turns out not to be there."""
    operations: list[dict[str, Any]] = []
    if wanted.agreed_name != wanted.name:
        operations.append({"op": "replace", "path": "displayName", "value": wanted.name})
    added, removed = sorted(wanted.add), sorted(wanted.remove)
    operations += [
        {"op": "add", "path": "members", "value": [{"value": each} for each in added[start : start + CHUNK]]} for start in range(0, len(added), CHUNK)
    ]
    operations += [{"op": "remove", "path": f"members[value eq {orjson.dumps(each).decode()}]"} for each in removed]
    path = f"/Groups/{segment(remote_id)}"
    if wanted.capabilities.patch:
        for some in _requests(operations):
            response: Response = yield Request("PATCH", path, body={"schemas": [PATCH_SCHEMA], "Operations": some})
            if response.status == 404:
                return False
            if response.status in (405, 501):
                if not wanted.whole:
                    raise NeedsWhole
                return (yield from _replace(wanted, remote_id))
            judged(response, "changing the group", empty=True)
        return True
    return (yield from _replace(wanted, remote_id)) if operations else True


def _requests(operations: Sequence[dict[str, Any]]) -> list[list[dict[str, Any]]]:
    """Return operations in requests: each with one list of new members at the most, and not too many members taken off."""
    parts: list[list[dict[str, Any]]] = []
    for operation in operations:
        heavy = operation["op"] == "add"
        if not parts or len(parts[-1]) >= CHUNK or (heavy and any(each["op"] == "add" for each in parts[-1])):
            parts.append([])
        parts[-1].append(operation)
    return parts


def _replace(wanted: WantedGroup, remote_id: str) -> Generator[Request | Everybody, Any, bool]:
    current = yield from _get(remote_id)
    if current is None:
        return False
    others = members_of(current) - wanted.ours
    members = [{"value": each} for each in sorted(others | wanted.members)]
    kept = {name: value for name, value in current.items() if name not in ("meta", "members", "schemas")}
    whole = {"schemas": [GROUP_URN], **kept, "displayName": wanted.name, "externalId": wanted.external_id, "members": members}
    response: Response = yield Request("PUT", f"/Groups/{segment(remote_id)}", body=whole)
    if response.status == 404:
        return False
    judged(response, "changing the group", empty=True)
    return True


def _remove(wanted: WantedGroup) -> Conversation:
    if wanted.remote_id is None:
        return ReachedGroup(None)
    if wanted.origin == MADE:
        response: Response = yield Request("DELETE", f"/Groups/{segment(wanted.remote_id)}")
        if response.status != 404:
            judged(response, "deleting the group", empty=True)
        return ReachedGroup(None)
    # It was there before us: our people leave it, and it stays.
    yield from _change(replace(wanted, name=wanted.agreed_name), wanted.remote_id)
    return ReachedGroup(None)
