"""Brings one group of an application to its desired state: its name and its members, as differences to the
applied state.
"""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import replace
from typing import Any

import orjson

from dravo.core.identity.names import fold
from dravo.core.provisioning.drift import members_of
from dravo.core.scim.schemas import GROUP_URN
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.account_sync import ADOPTED, MADE, FullListQuery, segment
from dravo.protocols.scim_client.group_members import CHUNK, NeedsWhole, change, read_group
from dravo.protocols.scim_client.group_types import Conversation, Question, ReachedGroup, WantedGroup
from dravo.protocols.scim_client.responses import Refused, RetryableError, classify


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
            current = yield from read_group(wanted.remote_id)
            changed = (
                (yield from change(_against(wanted, current), wanted.remote_id, wanted.origin))
                if current is not None
                else None
            )
        else:
            changed = yield from change(wanted, wanted.remote_id, wanted.origin)
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
            changed = yield from change(there, str(resource["id"]), origin)
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
                yield from change(
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
        return (yield from read_group(str(own[0]["id"]))) or own[0], MADE
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
    return (yield from read_group(str(same[0]["id"]))) or same[0], ADOPTED


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


def _remove(wanted: WantedGroup) -> Conversation:
    if wanted.remote_id is None:
        return ReachedGroup(None)
    if wanted.origin == MADE:
        response: Response = yield Request("DELETE", f"/Groups/{segment(wanted.remote_id)}")
        if response.status != 404:
            classify(response, "deleting the group", empty=True)
        return ReachedGroup(None)
    # The group existed before Dravo: only the users of Dravo are removed.
    yield from change(replace(wanted, name=wanted.applied_name), wanted.remote_id, wanted.origin)
    return ReachedGroup(None)
