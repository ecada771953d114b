"""Which members operations on a group add and remove (RFC 7644, section 3.5.2)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from sqlalchemy import Connection

from dravo.core.scim.errors import invalid_value
from dravo.core.scim.filters import element_matches
from dravo.core.scim.patches import MemberChange
from dravo.services.ingest.attempts import IngestAttempts
from dravo.services.ingest.types import MemberPlan
from dravo.store import groups
from dravo.store.received import members


class MemberChanges(IngestAttempts):
    """Plans the members of a group; members that no operation names are neither read nor written."""

    def member_plan(
        self, connection: Connection, source_id: str, group_id: str, changes: Iterable[MemberChange]
    ) -> MemberPlan:
        """Return the member changes of some operations together."""

        def listed_here() -> set[str]:
            return {
                *groups.listed_records(connection, group_id),
                *groups.listed_groups(connection, group_id),
            }

        wanted = self.wanted_members(connection, group_id, changes, listed_here)
        listed_now = groups.which_are_listed(connection, group_id, list(wanted))
        added = [each for each, stay in wanted.items() if stay and each not in listed_now]
        plan = self.resolve(connection, source_id, group_id, added)
        leaving = [each for each, stay in wanted.items() if not stay and each in listed_now]
        users_leaving, groups_leaving = groups.which_exist(
            connection, source_id, self.connection_type, leaving
        )
        return replace(plan, users_removed=frozenset(users_leaving), groups_removed=frozenset(groups_leaving))

    def wanted_members(
        self,
        connection: Connection,
        group_id: str,
        changes: Iterable[MemberChange],
        listed_here: Callable[[], set[str]],
    ) -> dict[str, bool]:
        """Return by ID whether a member that operations name is a member after them.

        Args:
            listed_here: returns the IDs of all members before the change.
        """
        wanted: dict[str, bool] = {}
        for change in changes:
            match change.kind:
                case "add":
                    wanted.update(dict.fromkeys(change.ids, True))
                case "remove":
                    wanted.update(dict.fromkeys(change.ids, False))
                case _:
                    listed = listed_here()
                    present = {*listed.difference(each for each, stay in wanted.items() if not stay)}
                    present.update(each for each, stay in wanted.items() if stay)
                    if change.kind == "replace":
                        wanted.update(dict.fromkeys(present, False))
                        wanted.update(dict.fromkeys(change.ids, True))
                    else:
                        wanted.update(
                            dict.fromkeys(self._matching(connection, group_id, change, present), False)
                        )
        return wanted

    def _matching(
        self, connection: Connection, group_id: str, change: MemberChange, present: set[str]
    ) -> list[str]:
        assert change.matching is not None
        elements = (
            {"value": row[0], "type": row[1], "display": row[2]}
            for row in members.members_of(connection, [group_id])[group_id]
        )
        return [
            each["value"]
            for each in elements
            if each["value"] in present and element_matches(change.matching, each)
        ]

    def resolve(self, connection: Connection, source_id: str, group_id: str, ids: list[str]) -> MemberPlan:
        """Return the plan that adds some IDs to a group.

        Raises:
            ScimError: 400 invalidValue, for an ID that the source does not have.
        """
        users, inner = groups.which_exist(connection, source_id, self.connection_type, ids)
        unknown = [each for each in ids if each not in users and each not in inner]
        if unknown:
            raise invalid_value(
                f"No user or group of this source has the ID '{unknown[0]}'"
                + (f" (and {len(unknown) - 1} more)" if len(unknown) > 1 else "")
                + "; create it first and use the ID from the response."
            )
        if group_id in inner:
            raise invalid_value("A group cannot be a member of itself.")
        return MemberPlan(users_added=frozenset(users), groups_added=frozenset(inner))
