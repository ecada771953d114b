"""Brings one account of an application to what is due: a conversation, written as a generator that yields requests.

It looks before it creates, adopts only what may be adopted, and looks again after a conflict. Whoever drives it decides on
network, threads and pace; the logic is the same with none of them.
"""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import orjson

from dravo.core.accounts import ABSENT, PRESENT, differences, scim_body
from dravo.core.records import fold
from dravo.core.scim.patches import PATCH_SCHEMA
from dravo.core.scim.schemas import USER_URN
from dravo.protocols.scim.outgoing import Request, Response

MADE, ADOPTED = "made", "adopted"


class Trouble(Exception):
    """Why an account could not be brought to what is due, in a sentence, with the mend."""

    def __init__(self, message: str, mend: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.mend = mend


class TryLater(Trouble):
    """Temporary trouble; `after` is how many seconds the application asked to be left alone, if it did."""

    def __init__(self, message: str, mend: str = "", after: float | None = None) -> None:
        super().__init__(message, mend)
        self.after = after


class MustPause(Trouble):
    """Trouble that concerns every account of the application: its token or its address."""


class Refused(Trouble):
    """The application will not have it, and asking again would not help."""


class HeldBySettings(Trouble):
    """The application's settings here do not permit it."""


@dataclass(frozen=True)
class Wanted:
    """What is to be reached, and what is known.

    Attributes:
        user_id: our external id there.
        due: the account as it should be (see core.accounts).
        agreed: the account as it was agreed last, or None.
        remote_id: the account's id there, or None while it is not known.
        may_create, may_update, adopt_by_user_name: the application's settings.
        can_patch: whether the application says that it takes PATCH.
    """

    user_id: str
    due: Mapping[str, Any]
    agreed: Mapping[str, Any] | None = None
    remote_id: str | None = None
    may_create: bool = True
    may_update: bool = True
    adopt_by_user_name: bool = False
    can_patch: bool = True


@dataclass(frozen=True)
class IsBound:
    """Asks whoever drives the conversation: does an account there belong to another user already?"""

    remote_id: str


@dataclass(frozen=True)
class Reached:
    """What was reached: the account's id there (None if there is none), and how we came by it."""

    remote_id: str | None
    origin: str | None = None


Question = Request | IsBound
Conversation = Generator[Question, Any, Reached]


def bring(wanted: Wanted) -> Conversation:
    """Bring an account to what is due.

    Yields:
        A `Request`, and is sent its `Response`; or `IsBound`, and is sent a bool.

    Returns:
        What was reached.

    Raises:
        TryLater, MustPause, Refused, HeldBySettings.
    """
    if wanted.due["want"] == ABSENT:
        return (yield from _remove(wanted))
    if wanted.remote_id is not None:
        agreed = wanted.agreed
        if agreed is not None and agreed["want"] == PRESENT:
            reached = yield from _update(wanted, wanted.remote_id, scim_body(agreed), None)
        else:
            current = yield from _get(wanted.remote_id)
            reached = (yield from _update(wanted, wanted.remote_id, _as_found(current, wanted), None)) if current is not None else None
        if reached is not None:
            return reached
        # It is gone there: look again, and make it anew if that is allowed.
        wanted = replace(wanted, remote_id=None, agreed=None)
    return (yield from _find_or_create(wanted))


def _find_or_create(wanted: Wanted) -> Conversation:
    for last in (False, True):
        found = yield from _look(wanted)
        if found is not None:
            resource, origin = found
            reached = yield from _update(wanted, str(resource["id"]), _as_found(resource, wanted), origin)
            if reached is not None:
                return reached
            continue
        if not wanted.due["active"]:
            # Nobody there, and nobody to be let in: there is nothing to do.
            return Reached(None)
        if not wanted.may_create:
            raise HeldBySettings(
                "There is no account, and creating accounts is switched off for this application.",
                "Make the account there by hand, or switch creating on.",
            )
        created = yield from _create(wanted)
        if created is not None:
            return created
        if last:
            break
    raise Refused(
        f"The application says that an account for '{wanted.due['user']['userName']}' exists (409), and shows none.",
        "Look for the account there: it may be deleted but not purged, or hidden from this token.",
    )


def _look(wanted: Wanted) -> Generator[Question, Any, tuple[Mapping[str, Any], str] | None]:
    """Return the account there that is ours or may be adopted, and which of the two; None if there is none."""
    own = [each for each in (yield from _search("externalId", wanted.user_id)) if each.get("externalId") == wanted.user_id]
    if len(own) > 1:
        ids = ", ".join(str(each.get("id")) for each in own)
        raise Refused(f"{len(own)} accounts there carry this person's external id: {ids}.", "Remove all but one of them there.")
    if own:
        return own[0], MADE
    if not wanted.due["active"]:
        return None
    name = str(wanted.due["user"]["userName"])
    same = [each for each in (yield from _search("userName", name)) if fold(str(each.get("userName", ""))) == fold(name)]
    if not same:
        return None
    found = same[0]
    foreign = found.get("externalId")
    if foreign:
        raise Refused(
            f"The user name '{name}' belongs there to an account with another external id ({foreign}).",
            "That account is somebody else's, or another system's. Rename or remove it there, then try again.",
        )
    if not wanted.adopt_by_user_name:
        raise Refused(
            f"An account with the user name '{name}' is there already, made by somebody else.",
            "If it is this person's, switch on 'adopt by user name' for this application; else rename it there.",
        )
    if (yield IsBound(str(found.get("id")))):
        raise Refused(f"The account '{name}' there belongs to another person here.", "See the application's accounts for whose it is.")
    return found, ADOPTED


def _search(attribute: str, value: str) -> Generator[Question, Any, list[Mapping[str, Any]]]:
    # A JSON string is what a filter's text is (RFC 7644, section 3.4.2.2): no value can end the string early.
    response: Response = yield Request("GET", "/Users", {"filter": f"{attribute} eq {orjson.dumps(value).decode()}"})
    if response.status in (400, 404, 501) and response.body is not None and response.status != 404:
        raise Refused(
            f"The application cannot look for accounts by {attribute}: {said(response)}",
            "Without looking, an account could be made twice, so nothing was made.",
        )
    body = _judged(response, "looking for the account")
    resources = body.get("Resources") or []
    return [each for each in resources if isinstance(each, Mapping) and each.get("id")]


def _get(remote_id: str) -> Generator[Question, Any, Mapping[str, Any] | None]:
    response: Response = yield Request("GET", f"/Users/{_segment(remote_id)}")
    return None if response.status == 404 else _judged(response, "reading the account")


def _create(wanted: Wanted) -> Generator[Question, Any, Reached | None]:
    attributes = {name: value for name, value in scim_body(wanted.due).items() if value != []}
    response: Response = yield Request("POST", "/Users", body={"schemas": _schemas(attributes), **attributes})
    if response.status == 409:
        return None
    body = _judged(response, "creating the account")
    remote_id = body.get("id")
    if not remote_id:
        # Made, but it does not say as what: the next look finds it by our external id.
        raise TryLater("The application made the account and did not tell its id.")
    return Reached(str(remote_id), MADE)


def _update(wanted: Wanted, remote_id: str, before: Mapping[str, Any], origin: str | None) -> Generator[Question, Any, Reached | None]:
    """Bring an account that is there to what is due; None if it turns out not to be there."""
    after = scim_body(wanted.due)
    if not wanted.may_update:
        if wanted.due["active"]:
            if differences(before, after):
                raise HeldBySettings(
                    "The account differs, and changing accounts is switched off for this application.",
                    "Change it there by hand, or switch changing on.",
                )
            return Reached(remote_id, origin)
        # Leaving has settings of its own, so it goes ahead; nothing else of the account is touched.
        after = {**before, "active": False, "roles": []}
    operations = differences(before, after)
    if not operations:
        return Reached(remote_id, origin)
    path = f"/Users/{_segment(remote_id)}"
    if wanted.can_patch:
        response: Response = yield Request("PATCH", path, body={"schemas": [PATCH_SCHEMA], "Operations": operations})
        if response.status not in (405, 501):
            return _updated(response, remote_id, origin)
    current = yield from _get(remote_id)
    if current is None:
        return None
    kept = {name: value for name, value in current.items() if name not in ("meta", "groups", "schemas")}
    whole = {**kept, **{name: value for name, value in after.items() if value != []}}
    for name, value in after.items():
        if value == []:
            whole.pop(name, None)
    response = yield Request("PUT", path, body={"schemas": _schemas(whole), **whole})
    return _updated(response, remote_id, origin)


def _updated(response: Response, remote_id: str, origin: str | None) -> Reached | None:
    if response.status == 404:
        return None
    _judged(response, "changing the account", empty=True)
    return Reached(remote_id, origin)


def _as_found(resource: Mapping[str, Any], wanted: Wanted) -> dict[str, Any]:
    """Return of an account there only the attributes that we deliver now: what else it has is not ours to take away."""
    return {name: resource[name] for name in scim_body(wanted.due) if name in resource}


def _remove(wanted: Wanted) -> Conversation:
    remote_id = wanted.remote_id
    if remote_id is None:
        own = [each for each in (yield from _search("externalId", wanted.user_id)) if each.get("externalId") == wanted.user_id]
        if not own:
            return Reached(None)
        remote_id = str(own[0]["id"])
    response: Response = yield Request("DELETE", f"/Users/{_segment(remote_id)}")
    if response.status != 404:
        _judged(response, "deleting the account", empty=True)
    return Reached(None)


def _schemas(attributes: Mapping[str, Any]) -> list[str]:
    return [USER_URN, *(name for name in attributes if name.startswith("urn:"))]


def _segment(remote_id: str) -> str:
    """Return an id as one segment of a path, whatever the application put into it."""
    return "".join(c if c.isascii() and (c.isalnum() or c in "-_.~@:") else "".join(f"%{byte:02X}" for byte in c.encode()) for c in remote_id)


def _judged(response: Response, doing: str, *, empty: bool = False) -> Mapping[str, Any]:
    """Return the body of a success; `empty` says that a success may have none.

    Raises:
        TryLater, MustPause, Refused: by the answer.
    """
    status = response.status
    if response.ok:
        if response.body is not None:
            return response.body
        if empty and not looks_like_a_page(response):
            return {}
        raise MustPause(*not_scim(response))
    if status in (401, 403):
        raise MustPause(
            f"The application turned the token away while {doing} ({status}): {said(response)}",
            "Give the connection a token that is valid and may change users.",
        )
    if 300 <= status < 400:
        raise MustPause(
            f"The application's address leads elsewhere ({status} to {response.location}).",
            "Give the address that it leads to, if it is the application's.",
        )
    if status == 404 or (response.body is None and looks_like_a_page(response) and status < 500):
        raise MustPause(*not_scim(response))
    if status == 429 or status >= 500 or status in (408, 425):
        raise TryLater(f"The application could not do it now, while {doing} ({status}): {said(response)}", "", response.retry_after)
    raise Refused(f"The application refused {doing} ({status}): {said(response)}", "Mend what it names, here or there, then try again.")


def looks_like_a_page(response: Response) -> bool:
    """Whether an answer is a web page instead of a message for programs."""
    return "html" in response.content_type.lower() or response.excerpt.lstrip()[:1] == "<"


def not_scim(response: Response) -> tuple[str, str]:
    """Return message and mend for an answer that no SCIM service gives."""
    if looks_like_a_page(response):
        what = f"a web page (HTML, {response.status})"
    elif response.status == 404:
        what = "that there is nothing (404)"
    else:
        what = f"something that is not JSON ({response.status})"
    return (
        f"The application's address answered with {what} instead of SCIM.",
        "Check the base address: it is often the one that ends in /scim/v2 or /scim, not that of the pages for people.",
    )


def said(response: Response) -> str:
    """Return in one sentence what the application said."""
    body = response.body or {}
    for name in ("detail", "message", "error_description", "error"):
        if isinstance(body.get(name), str) and body[name].strip():
            return str(body[name]).strip()[:300]
    return response.excerpt.strip()[:200] or "it gave no reason."
