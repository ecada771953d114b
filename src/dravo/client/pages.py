"""Paged lists, read as needed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

Item = TypeVar("Item")


@dataclass(frozen=True)
class Page(Generic[Item]):
    """One page: its items, the number of all, and the cursor of the next page (None without one)."""

    items: list[Item]
    total: int
    next: str | None


class Pages(Generic[Item]):
    """A list; iterating over it reads page after page.

    Args:
        fetch: returns the page after a cursor (None: the first), with a largest number of items.
        count: the number of items in a page.
    """

    def __init__(self, fetch: Callable[[str | None, int], dict[str, Any]], count: int = 200) -> None:
        self._fetch, self._count = fetch, count

    def page(self, after: str | None = None, count: int | None = None) -> Page[Item]:
        """Return one page."""
        found = self._fetch(after, count or self._count)
        return Page(found["items"], found["total"], found["next"])

    def __iter__(self) -> Iterator[Item]:
        after: str | None = None
        while True:
            page = self.page(after)
            yield from page.items
            after = page.next
            if after is None:
                return

    def total(self) -> int:
        """Return the number of items."""
        return self.page(count=1).total
