"""Hides what people's attributes are from those for whom they are masked; names and user names stay, so that people can be told apart."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from dravo.services.permissions import ATTRIBUTES, Caller

HIDDEN = "•••"
# By these people are told apart, and they stand everywhere.
_SEEN = ("userName", "displayName", "name")


def for_caller(caller: Caller, items: Iterable[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return people as a caller may see them: their e-mail, attributes and external ids are hidden from whoever has no right to them."""
    return list(items) if ATTRIBUTES in caller.permissions else list(_hidden(items))


def _hidden(items: Iterable[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for item in items:
        shown = {**item}
        if item.get("email"):
            # Where somebody's mail is kept is no secret; who they are there is.
            shown["email"] = f"{HIDDEN}@{item['email'].rpartition('@')[2]}"
        if "attributes" in item:
            shown["attributes"] = [each if each["name"].split(".")[0] in _SEEN else {**each, "value": HIDDEN} for each in item["attributes"]]
        if "records" in item:
            shown["records"] = [{**each, "external_id": HIDDEN if each["external_id"] else None} for each in item["records"]]
        yield shown
