"""Hides from operators what they cannot see: attributes of users, names, network addresses.

`hide_for` sets once for each request what is hidden. Everything that shows, searches or looks up attributes
asks for it. Names and network addresses are masked where they are read, see
`store/operators/masked_views.py`. Who cannot see names sees no text either that quotes what users are called,
such as an email address or a rule.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from contextvars import ContextVar
from dataclasses import replace
from typing import Any, TypeVar

import orjson

from dravo.services.security.permissions import ATTRIBUTES, Caller
from dravo.store.operators import masked_views
from dravo.store.operators.masked_views import MASKS, NAMES, NETWORKS
from dravo.store.queries.accounts import AccountLine
from dravo.store.queries.users import UserLine

U = TypeVar("U", bound=UserLine)
HIDDEN = masked_views.HIDDEN
# These are names; everything else is an attribute. Some attributes tell the name all the same.
_NAMES = ("userName", "displayName", "name")
_TELLING = (*_NAMES, "nickName", "emails", "externalId", "manager")
_EMAIL = re.compile(r"[\w.!#$%&'*+/=?^`{|}~-]+@(?=[\w-]+\.)")
_HIDDEN: ContextVar[bool] = ContextVar("texts that quote attributes are hidden", default=False)
_ATTRIBUTES: ContextVar[bool] = ContextVar("attributes are hidden", default=False)


def hide_for(caller: Caller | None) -> None:
    """Hide in this thread from now on what a caller cannot see; None shows everything again."""
    _HIDDEN.set(caller is not None and ATTRIBUTES not in caller.permissions)
    _ATTRIBUTES.set(caller is not None and ATTRIBUTES not in replace(caller, masked_names=False).permissions)
    masks = {
        NAMES: caller is not None and caller.masked_names,
        NETWORKS: caller is not None and caller.masked_networks,
    }
    MASKS.set(frozenset(name for name, masked in masks.items() if masked))


def hidden() -> bool:
    """Return whether texts that quote attributes are hidden from the present caller, also from search."""
    return _HIDDEN.get()


def names_hidden() -> bool:
    """Return whether names of users are hidden from the present caller."""
    return NAMES in MASKS.get()


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
    if names_hidden() and attribute.startswith(_TELLING):
        return True
    return _ATTRIBUTES.get() and attribute.split(".", maxsplit=1)[0] not in _NAMES


def person(values: Mapping[str, Any]) -> Mapping[str, Any]:
    """Return the attributes of a user, without names if the present caller may not see these."""
    return masked_views.mask_person(values) if names_hidden() else values


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
