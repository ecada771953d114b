"""People and groups."""

from __future__ import annotations

from typing import cast

from dravo.client import types as t
from dravo.client.noun import Noun, part
from dravo.client.pages import Pages


class People(Noun):
    """People: who they are, what they have, and why."""

    def list(self, *, words: str | None = None, state: str | None = None) -> Pages[t.PersonLine]:
        """List people by name."""
        return self._dravo.pages("/people", {"q": words, "state": state})

    def get(self, person: str) -> t.Person:
        """Return one person by id, user name, e-mail or external id."""
        return cast(t.Person, self._call("GET", f"/people/{part(person)}"))

    def why(self, person: str, application: str) -> t.Why:
        """Explain what a person has in an application, or why nothing."""
        return cast(t.Why, self._call("GET", f"/people/{part(person)}/why/{part(application)}"))


class Groups(Noun):
    """Groups and their members."""

    def list(self, *, words: str | None = None, source: str | None = None, mapped: bool | None = None) -> Pages[t.Group]:
        """List groups by name; `mapped`: only those that an assignment names, by itself or by a pattern, or only those that none does."""
        return self._dravo.pages("/groups", {"q": words, "source": source, "mapped": None if mapped is None else "yes" if mapped else "no"})

    def get(self, group_id: str) -> t.Group:
        """Return one group by id."""
        return cast(t.Group, self._call("GET", f"/groups/{part(group_id)}"))

    def members(self, group_id: str) -> Pages[t.PersonLine]:
        """List the people in a group."""
        return self._dravo.pages(f"/groups/{part(group_id)}/members")
