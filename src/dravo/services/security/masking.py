"""Hides attributes of users from operators who cannot see them; names and user names stay visible.

`hide_for` sets once for each request whether attributes are hidden. Everything that shows, searches or looks
up users asks for it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from contextvars import ContextVar
from dataclasses import replace
from typing import TypeVar

import orjson

from dravo.services.security.permissions import ATTRIBUTES, Caller
from dravo.store.queries.accounts import AccountLine
from dravo.store.queries.users import UserLine

U = TypeVar("U", bound=UserLine)
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


def users(caller: Caller, items: Sequence[U]) -> list[U]:
    """Return users as a caller may see them: the part of an email address before the domain may be hidden."""
    if ATTRIBUTES in caller.permissions:
        return list(items)
    return [replace(each, email=email(each.email)) for each in items]


def email(address: str | None) -> str | None:
    """Return an email address with its local part hidden."""
    if not address:
        return address
    _, _, domain = address.rpartition("@")
    return f"{HIDDEN}@{domain}"


def is_masked(attribute: str) -> bool:
    """Return whether the present caller may not see the values of an attribute."""
    return hidden() and attribute.split(".", maxsplit=1)[0] not in _SEEN


def text(message: str | None) -> str | None:
    """Return a message with the local part of email addresses hidden, if attributes are hidden."""
    return _EMAIL.sub(f"{HIDDEN}@", message) if message and hidden() else message


def accounts(items: Iterable[AccountLine]) -> list[AccountLine]:
    """Return accounts with hidden values in messages: an application can quote an email address."""
    return [
        replace(each, task=replace(each.task, message=text(each.task.message))) if each.task else each
        for each in items
    ]


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
