"""Versions of resources as entity tags, and conditions of requests (RFC 7644, section 3.14; RFC 9110, section
13.1).
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterable
from dataclasses import dataclass

from dravo.core.scim.errors import ScimError

_TAG = re.compile(r'\*|(?:W/)?"[\x21\x23-\x7e\x80-\xff]*"')


def entity_tag(version: int, listed: Iterable[tuple[str, str]] = ()) -> str:
    """Return the weak entity tag of a resource.

    Args:
        version: the version of the record.
        listed: (ID, name) of the user's groups: they are shown, although they are no part of the record.
    """
    groups = sorted(listed)
    return f'W/"{version}-{zlib.crc32(repr(groups).encode()):08x}"' if groups else f'W/"{version}"'


@dataclass(frozen=True)
class Condition:
    """The version that a request expects; both None: any."""

    if_match: str | None = None
    if_none_match: str | None = None

    def __bool__(self) -> bool:
        return self.if_match is not None or self.if_none_match is not None

    def check(self, tag: str) -> None:
        """Check that a resource with this tag may be changed.

        Raises:
            ScimError: 412.
        """
        if self.if_match is not None and not _names(self.if_match, tag):
            raise ScimError(
                412,
                f"The resource has changed to version {tag}, and the request expects {self.if_match}. "
                "Read the resource again.",
            )
        if self.if_none_match is not None and _names(self.if_none_match, tag):
            raise ScimError(412, f"The resource has version {tag}, which the request excludes.")

    def unchanged(self, tag: str) -> bool:
        """Whether a reader has this version already (304)."""
        return self.if_none_match is not None and _names(self.if_none_match, tag)


ANY = Condition()


def _names(header: str, tag: str) -> bool:
    """Whether a list of entity tags contains one, by weak comparison: all our tags are weak."""
    found = [each.removeprefix("W/") for each in _TAG.findall(header)]
    if not found:
        # Some clients send the plain text of meta.version.
        found = [f'"{header.strip()}"']
    return "*" in found or tag.removeprefix("W/") in found
