"""Brings one account of an application to its desired state: a conversation, written as a generator that
yields requests.

It searches before it creates, adopts only allowed accounts, and searches again after a conflict. The caller
decides on network, threads and rate.
"""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import orjson

from dravo.core.provisioning.accounts import (
    ABSENT,
    ENTERPRISE_PARTS,
    MANAGER,
    PRESENT,
    differences,
    scim_body,
    with_manager,
    without_empty,
)
from dravo.core.provisioning.matching import USER_NAME, filter_path, values_of
from dravo.core.scim.patches import PATCH_SCHEMA
from dravo.core.scim.schemas import ENTERPRISE_URN, USER_URN
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.listing import ResourceList
from dravo.protocols.scim_client.responses import HeldBySettings, Refused, RetryableError, Unknown, classify

MADE, ADOPTED = "made", "adopted"
CAN_ALL = Capabilities()


@dataclass(frozen=True)
class AccountTarget:
    """The desired account, and what is known.

    Attributes:
        user_id: our external ID.
        desired: the desired account (see `core.provisioning.accounts`).
        applied: the applied account, or None.
        remote_id: the account's ID there, or None.
        may_create, may_update: the settings of the application.
        adopt_by: the attributes by which an existing account is adopted.
        capabilities: the capabilities of the application.
        doubt: whether an account may have been created although no response arrived.
        to_empty: attributes to empty there, because the user has no value.
        named_manager: whether the account was sent with a manager: then the manager there is ours.
    """

    user_id: str
    desired: Mapping[str, Any]
    applied: Mapping[str, Any] | None = None
    remote_id: str | None = None
    may_create: bool = True
    may_update: bool = True
    adopt_by: tuple[str, ...] = ()
    capabilities: Capabilities = CAN_ALL
    doubt: bool = False
    to_empty: frozenset[str] = frozenset()
    named_manager: bool = False

    @property
    def external_id(self) -> str:
        """The external ID of the account: ours, or the result of an expression."""
        user = self.desired.get("user") or {}
        return str(user.get("externalId") or self.user_id)

    def body(self, due: Mapping[str, Any]) -> dict[str, Any]:
        """Return a desired account as the application accepts it."""
        return accepted_body(due, self.capabilities)

    def whole_body(self) -> dict[str, Any]:
        """Return the desired account, with the attributes to empty."""
        empty = {
            name: dict.fromkeys(ENTERPRISE_PARTS) if name == ENTERPRISE_URN else None
            for name in self.to_empty
        }
        return {**empty, **self.body(self.desired)}


def accepted_body(due: Mapping[str, Any], capabilities: Capabilities) -> dict[str, Any]:
    """Return a desired account as an application accepts it, without attributes that it lacks."""
    if MANAGER in due and not capabilities.manager:
        due = with_manager(due, None)
    return {
        name: value for name, value in scim_body(due, capabilities.roles).items() if capabilities.takes(name)
    }


@dataclass(frozen=True)
class IsLinkedQuery:
    """Asks the caller whether an account belongs to another user already."""

    remote_id: str


@dataclass(frozen=True)
class CachedListQuery:
    """Asks the caller for a list of the accounts read a moment ago, and after any doubt. Sent resources, or
    None.
    """


@dataclass(frozen=True)
class FullListQuery:
    """Asks the caller to read the list of all accounts, or to use a recent one.

    Sent a list of resources, or None if it cannot be read.
    """


@dataclass(frozen=True)
class AccountResult:
    """The result: the account's ID (None without an account), and how it was found."""

    remote_id: str | None
    origin: str | None = None


Question = Request | IsLinkedQuery | CachedListQuery | FullListQuery
Resource = Mapping[str, Any]
Conversation = Generator[Question, Any, AccountResult]


def sync_account(wanted: AccountTarget) -> Conversation:
    """Bring an account to its desired state.

    Yields:
        A `Request`, and is sent its `Response`; or `IsBound`, and is sent a bool.

    Returns:
        The result.

    Raises:
        RetryableError, ConnectionPausedError, Refused, HeldBySettings.
    """
    if wanted.desired["want"] == ABSENT:
        return (yield from _remove(wanted))
    if wanted.desired["active"] and wanted.desired.get("problem"):
        raise Refused(
            wanted.desired["problem"],
            "Change the expression, or the user's attributes at the source.",
            "no_user_name",
        )
    if wanted.remote_id is not None:
        agreed = wanted.applied
        if agreed is not None and agreed["want"] == PRESENT:
            reached = yield from _update(wanted, wanted.remote_id, wanted.body(agreed), None)
        else:
            current = yield from _get(wanted.remote_id)
            reached = (
                (yield from _update(wanted, wanted.remote_id, _as_found(current, wanted), None))
                if current is not None
                else None
            )
        if reached is not None:
            return reached
        # The account is missing: search again, and create it if the settings allow it.
        wanted = replace(wanted, remote_id=None, applied=None)
    return (yield from _find_or_create(wanted))


def _find_or_create(wanted: AccountTarget) -> Conversation:
    exists = False
    for last in (False, True):
        found = yield from _look(wanted, lately=not last)
        if found is not None:
            resource, origin = found
            reached = yield from _update(wanted, str(resource["id"]), _as_found(resource, wanted), origin)
            if reached is not None:
                return reached
            continue
        if not wanted.desired["active"]:
            # There is no account and none should exist: nothing to do.
            return AccountResult(None)
        if not wanted.may_create:
            raise HeldBySettings(
                "The user has no account, and creating accounts is disabled for this application.",
                "Create the account in the application, or enable creating accounts.",
            )
        created = yield from _create(wanted)
        if created is not None:
            return created
        exists = True
    if not exists:
        raise RetryableError(
            "The account disappeared from the application before Dravo could change it.",
            "Dravo searches for the account again.",
        )
    raise Refused(
        f"The application says that an account for '{wanted.desired['user']['userName']}' exists (409), "
        "but returns none.",
        "Find the account in the application. It may be deleted but not purged, or hidden from this token.",
        "not_returned",
    )


def _look(wanted: AccountTarget, *, lately: bool) -> Generator[Question, Any, tuple[Resource, str] | None]:
    """Return the account that is ours or may be adopted, and which of the two; or None.

    Args:
        wanted: the desired account.
        lately: whether a list read a moment ago is good enough.
    """
    at_hand: ResourceList | None = (yield CachedListQuery()) if lately else None
    own = yield from _search(wanted, "externalId", wanted.external_id, at_hand)
    if own is None:
        # The application supports neither search nor list.
        if wanted.doubt:
            raise _unknown()
        return None
    if own:
        whole = yield from _whole(_only(own), at_hand)
        # An account from an earlier list may be deleted by now: then search again.
        return (whole, MADE) if whole is not None else (yield from _look(wanted, lately=False))
    if not wanted.desired["active"]:
        return None
    name = str(wanted.desired["user"]["userName"])
    same = yield from _search(wanted, USER_NAME, name, at_hand)
    found = same[0] if same else None
    if found is not None and found.get("externalId"):
        if (yield IsLinkedQuery(str(found.get("id")))):
            raise _another_users(name)
        raise Refused(
            f"The account with the user name '{name}' has another external ID ({found['externalId']}).",
            "The account belongs to another user or system. Rename or delete it in the application, "
            "then retry.",
            "other_system",
        )
    if found is None or USER_NAME not in wanted.adopt_by:
        other = yield from _look_by_others(wanted, at_hand)
        if found is not None and other is None:
            raise Refused(
                f"An account with the user name '{name}' exists already and was not created by Dravo.",
                "If the account belongs to this user, enable adopting by user name. Otherwise rename it in "
                "the application.",
                "not_adopted",
            )
        found = other
    elif (yield IsLinkedQuery(str(found.get("id")))):
        raise _another_users(name)
    if found is None:
        return None
    whole = yield from _whole(found, at_hand)
    return (whole, ADOPTED) if whole is not None else (yield from _look(wanted, lately=False))


def _look_by_others(
    wanted: AccountTarget, at_hand: ResourceList | None
) -> Generator[Question, Any, Resource | None]:
    """Return the one account that may be adopted by another attribute than the user name; or None.

    Accounts with an external ID, and accounts of other users, are left alone: they may share the value.
    """
    body = wanted.body(wanted.desired)
    for attribute in wanted.adopt_by:
        values = values_of(body, attribute) if attribute != USER_NAME else []
        for value in values[:1]:
            found = yield from _search(wanted, attribute, value, at_hand)
            free = []
            for each in found or ():
                if not each.get("externalId") and not (yield IsLinkedQuery(str(each.get("id")))):
                    free.append(each)
            if len(free) > 1:
                ids = ", ".join(str(each.get("id")) for each in free[:5])
                raise Refused(
                    f"{len(free)} accounts without an external ID have the {attribute} '{value}': {ids}.",
                    "Link the right account on the tab Drift, or change the value of the others.",
                    "doubles",
                )
            if free:
                return free[0]
    return None


def _only(own: list[Resource]) -> Resource:
    """Return the one account that carries our external id; which of several it is, a user decides."""
    if len(own) > 1:
        ids = ", ".join(str(each.get("id")) for each in own)
        raise Refused(
            f"{len(own)} accounts have the external ID of this user: {ids}.",
            "Delete all but one of them in the application.",
            "doubles",
        )
    return own[0]


def _unknown() -> Unknown:
    return Unknown(
        "The outcome is unknown: the response was lost, and the application cannot be searched.",
        "Find the account in the application, then resolve the task.",
    )


def _another_users(name: str) -> Refused:
    message = f"The account '{name}' belongs to another user."
    return Refused(message, "Find the user in the list of accounts of the application.", "other_user")


def _whole(found: Resource, at_hand: ResourceList | None) -> Generator[Question, Any, Resource | None]:
    """Return the current state of an account; an account from a list may have changed or be deleted
    (None).
    """
    return found if at_hand is None else (yield from _get(str(found["id"])))


def _search(
    wanted: AccountTarget, attribute: str, value: str, at_hand: ResourceList | None
) -> Generator[Question, Any, list[Resource] | None]:
    """Return the accounts with a value in an attribute; None if the application cannot be searched."""
    found: ResourceList | list[Resource] | None = at_hand
    if found is None and wanted.capabilities.filter:
        # A JSON string is what a filter's text is (RFC 7644, section 3.4.2.2): no value can end the string
        # early.
        response: Response = yield Request(
            "GET", "/Users", {"filter": f"{filter_path(attribute)} eq {orjson.dumps(value).decode()}"}
        )
        if not (response.status in (400, 403, 405, 501) and response.body is not None):
            body = classify(response, "looking for the account")
            found = [
                each for each in body.get("Resources") or [] if isinstance(each, Mapping) and each.get("id")
            ]
            total, seen = body.get("totalResults"), len(found)
            if isinstance(total, int) and total > seen:
                # The application ignores the filter, and this is only the first page of all accounts: the
                # account can still exist.
                found = None
        elif response.status == 403:
            classify(response, "looking for the account")
    if found is None:
        found = yield FullListQuery()
    if found is None:
        return None
    # Some applications ignore filters and return all accounts, so each result is checked.
    return (found if isinstance(found, ResourceList) else ResourceList(found)).having(attribute, value)


def _get(remote_id: str) -> Generator[Question, Any, Mapping[str, Any] | None]:
    response: Response = yield Request("GET", f"/Users/{segment(remote_id)}")
    return None if response.status == 404 else classify(response, "reading the account")


def _create(wanted: AccountTarget) -> Generator[Question, Any, AccountResult | None]:
    attributes = without_empty(wanted.body(wanted.desired))
    response: Response = yield Request("POST", "/Users", body={"schemas": _schemas(attributes), **attributes})
    if response.status == 409:
        return None
    body = classify(response, "creating the account")
    remote_id = body.get("id")
    if not remote_id:
        # Created, but the response has no ID: the next search finds the account by its external ID.
        raise RetryableError("The application created the account, but returned no ID.")
    return AccountResult(str(remote_id), MADE)


def _update(
    wanted: AccountTarget, remote_id: str, before: Mapping[str, Any], origin: str | None
) -> Generator[Question, Any, AccountResult | None]:
    """Bring an existing account to its desired state; None if it does not exist after all."""
    if not wanted.desired["active"] and not wanted.capabilities.active:
        raise HeldBySettings(
            "The application does not support inactive accounts.",
            "Choose 'delete' or 'do_nothing' in the settings of the application.",
        )
    after = wanted.whole_body()
    if not wanted.may_update:
        if wanted.desired["active"]:
            if differences(before, after):
                raise HeldBySettings(
                    "The account differs, but updating accounts is disabled for this application.",
                    "Change the account in the application, or enable updating accounts.",
                )
            return AccountResult(remote_id, origin)
        # Leavers have a setting of their own, so this is done first; nothing else of the account changes.
        after = {**before, **({"active": False, "roles": []} if "roles" in after else {"active": False})}
    operations = differences(before, after)
    if not operations:
        return AccountResult(remote_id, origin)
    path = f"/Users/{segment(remote_id)}"
    if wanted.capabilities.patch:
        response: Response = yield Request(
            "PATCH", path, body={"schemas": [PATCH_SCHEMA], "Operations": operations}
        )
        if response.status not in (405, 501):
            return _updated(response, remote_id, origin)
    current = yield from _get(remote_id)
    if current is None:
        return None
    kept = {name: value for name, value in current.items() if name not in ("id", "meta", "groups", "schemas")}
    # What was sent before and is no longer due is removed; what was never sent is not ours.
    for name, value in before.items():
        if name not in after:
            kept[name] = _without(kept.get(name), value)
        elif isinstance(value, Mapping) and isinstance(after[name], Mapping):
            lost = {part: inner for part, inner in value.items() if part not in after[name]}
            kept[name] = _without(kept.get(name), lost) if lost else kept.get(name)
    # A complex value keeps sub-attributes that Dravo does not set; empty ones are removed.
    merged = {
        name: {**kept[name], **value}
        if isinstance(value, Mapping) and isinstance(kept.get(name), Mapping)
        else value
        for name, value in after.items()
    }
    whole = without_empty({**kept, **merged})
    response = yield Request("PUT", path, body={"schemas": _schemas(whole), **whole})
    return _updated(response, remote_id, origin)


def _without(found: Any, sent: Any) -> Any:
    """Return a value of an account without what was sent; other parts of a complex value stay."""
    if isinstance(found, Mapping) and isinstance(sent, Mapping):
        return {part: inner for part, inner in found.items() if part not in sent}
    return None


def _updated(response: Response, remote_id: str, origin: str | None) -> AccountResult | None:
    if response.status == 404:
        return None
    classify(response, "changing the account", empty=True)
    return AccountResult(remote_id, origin)


def _as_found(resource: Mapping[str, Any], wanted: AccountTarget) -> dict[str, Any]:
    """Return the attributes of an account that Dravo sends; others are not ours to remove."""
    body = wanted.whole_body()
    found = {name: resource[name] for name in body if name in resource}
    extension = resource.get(ENTERPRISE_URN)
    if isinstance(extension, Mapping):
        parts = ENTERPRISE_PARTS if ENTERPRISE_URN in body else ()
        ours = {part: value for part, value in extension.items() if part in parts}
        manager = extension.get(MANAGER)
        sent = MANAGER in body.get(ENTERPRISE_URN, {}) or wanted.named_manager
        if sent and isinstance(manager, Mapping) and "value" in manager:
            ours[MANAGER] = {"value": manager["value"]}
        if ours or ENTERPRISE_URN in body:
            found[ENTERPRISE_URN] = ours
    return found


def _remove(wanted: AccountTarget) -> Conversation:
    remote_id = wanted.remote_id
    if remote_id is None:
        own = yield from _search(wanted, "externalId", wanted.external_id, None)
        if own is None and wanted.doubt:
            raise _unknown()
        if not own:
            return AccountResult(None)
        remote_id = str(_only(own)["id"])
    response: Response = yield Request("DELETE", f"/Users/{segment(remote_id)}")
    if response.status != 404:
        classify(response, "deleting the account", empty=True)
    return AccountResult(None)


def _schemas(attributes: Mapping[str, Any]) -> list[str]:
    return [USER_URN, *(name for name in attributes if name.startswith("urn:"))]


def segment(remote_id: str) -> str:
    """Return an ID as one segment of a path, whatever characters it has."""
    return "".join(
        c
        if c.isascii() and (c.isalnum() or c in "-_.~@:")
        else "".join(f"%{byte:02X}" for byte in c.encode())
        for c in remote_id
    )
