"""Hides attributes of users from operators who cannot see them; names and user names stay visible.

`hide_for` sets once for each request whether attributes are hidden. Everything that shows, searches or looks
up users asks for it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from contextvars import ContextVar
from typing import Any

import orjson

from dravo.services.security.permissions import ATTRIBUTES, Caller

HIDDEN = "•••"
# Names that tell users apart are shown everywhere.
_SEEN = ("userName", "displayName", "name")
_EMAIL = re.compile(r"[\w.!#$%&'*+/=?^`{|}~-]+@(?=[\w-]+\.)")
_HIDDEN: ContextVar[bool] = ContextVar("attributes are hidden", default=False)


def hide_for(caller: Caller | None) -> None:
    """Hide attributes in this thread from now on if a caller cannot see them; None shows them again."""
    _HIDDEN.set(caller is not None and ATTRIBUTES not in caller.permissions)


def hidden() -> bool:
    """Return whether the present caller has no right to attributes."""
    return _HIDDEN.get()


def for_caller(caller: Caller, items: Iterable[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return users as a caller may see them: email, attributes and external IDs may be hidden."""
    return list(items) if ATTRIBUTES in caller.permissions else list(_masked(items))


def _masked(items: Iterable[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for item in items:
        shown = {**item}
        if item.get("email"):
            # The domain of an email address is no secret; the part before it is.
            shown["email"] = f"{HIDDEN}@{item['email'].rpartition('@')[2]}"
        if "attributes" in item:
            shown["attributes"] = [
                each if each["name"].split(".")[0] in _SEEN else {**each, "value": HIDDEN}
                for each in item["attributes"]
            ]
        if "records" in item:
            shown["records"] = [
                {**each, "external_id": HIDDEN if each["external_id"] else None} for each in item["records"]
            ]
        yield shown


def text(message: str | None) -> str | None:
    """Return a message with the local part of email addresses hidden, if attributes are hidden."""
    return _EMAIL.sub(f"{HIDDEN}@", message) if message and hidden() else message


def accounts(items: Iterable[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return accounts with hidden values in messages: an application can quote an email address."""
    return [
        {**each, "task": {**each["task"], "message": text(each["task"]["message"])}} if each["task"] else each
        for each in items
    ]


def exchange(shown: dict[str, Any]) -> dict[str, Any]:
    """Return a request to an application as the present caller may read it: filters and refusals quote
    attributes.
    """
    return (
        {**shown, "path": shown["path"].partition("?")[0], "excerpt": HIDDEN if shown["excerpt"] else None}
        if hidden()
        else shown
    )


def hide_texts(content: bytes, texts: Sequence[str]) -> bytes:
    """Hide texts in JSON, CSV or plain text, in every spelling of each format.

    Args:
        texts: the texts, such as conditions of rules that contain attribute values.
    """
    written = {
        form
        for each in texts
        for form in (each.encode(), orjson.dumps(each)[1:-1], each.replace('"', '""').encode())
    }
    if not written:
        return content
    longest_first = sorted(written, key=len, reverse=True)
    return re.sub(b"|".join(map(re.escape, longest_first)), HIDDEN.encode(), content)
