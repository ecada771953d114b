"""Who decides about the members of a group: a connection type of its source, all of them, or Dravo.

The source has a default, and a group may differ. Members that another connection type reports are stored, but
do not count. Members that operators add to a group of a source count where Dravo decides.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from dravo.core.identity.records import IMPORT, INBOUND_SCIM, SIGN_IN

ALL, DRAVO = "all", "dravo"
AUTHORITIES = (ALL, INBOUND_SCIM, IMPORT, SIGN_IN, DRAVO)


@dataclass(frozen=True)
class MembershipAuthority:
    """The authorities by the ID of a source, where it is not `ALL`, and by the ID of a group, where the group
    has its own.
    """

    by_source: Mapping[str, str] = field(default_factory=dict)
    by_group: Mapping[str, str] = field(default_factory=dict)

    def of(self, source_id: str, group_id: str) -> str:
        """Return who decides about the members of a group."""
        return self.by_group.get(group_id) or self.by_source.get(source_id, ALL)

    def counts(self, source_id: str, group_id: str, connection_type: str) -> bool:
        """Whether members of a group count that a connection type of its source reports."""
        return self.of(source_id, group_id) in (ALL, connection_type)


PLAIN_AUTHORITY = MembershipAuthority()
