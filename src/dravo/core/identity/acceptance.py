"""Decides how a record of inbound SCIM counts: the source sends it at any time, the policy of the source says
whether it belongs to a user, and with which values.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from dravo.core.expressions import SCIM_USER
from dravo.core.identity.names import fold
from dravo.core.identity.source_policy import EVERY, Refused, SourcePolicy

# The connection type of groups that the policy of inbound SCIM makes of attributes of users.
MADE_GROUP = "made_group"
# The status of a source's inbound SCIM.
DISABLED, PILOT, ENABLED = "disabled", "pilot", "enabled"
# Why a record counts for no user.
PENDING, OUT_OF_SCOPE, NOT_A_MEMBER, NOT_IN_PILOT, SOURCE_DISABLED, UNKNOWN_USER, REFUSED = (
    "pending",
    "out_of_scope",
    "not_a_member",
    "not_in_pilot",
    "disabled",
    "unknown_user",
    "refused",
)
# A record whose user was handed over to another source; it counts again when that is undone.
HANDED_OVER = "handed_over"
# A record of a user who was erased; an operator can accept it again.
ERASED = "erased"
# What waits of a record until its source is enabled, or the user is in the pilot group.
CHANGE, DEACTIVATION, DELETION = "change", "deactivation", "deletion"


@dataclass(frozen=True)
class ReceivedGroup:
    """A group of which a record is a member, directly or through another group, as the source sent it."""

    id: str
    name: str
    external_id: str | None = None
    more_ids: tuple[str, ...] = ()

    @property
    def ids(self) -> tuple[str, ...]:
        """The IDs by which a policy can name it."""
        return (self.id, *((self.external_id,) if self.external_id else ()), *self.more_ids)


@dataclass(frozen=True)
class InboundPolicy:
    """The policy of a source's inbound SCIM, and its status."""

    policy: SourcePolicy = field(default_factory=lambda: SourcePolicy(reads=SCIM_USER, as_sent=True))
    status: str = ENABLED

    @cached_property
    def is_plain(self) -> bool:
        """Whether each record is accepted as it was sent; the match rule alone changes nothing of that."""
        policy = self.policy
        limits = policy.users or policy.attributes or policy.makes_groups or not policy.makes
        groups = policy.groups.which != EVERY or policy.member_of.which != EVERY
        return self.status == ENABLED and not limits and not groups

    @cached_property
    def needs_groups(self) -> bool:
        """Whether the groups of a record decide if it is accepted."""
        return self.status == PILOT or self.policy.member_of.which != EVERY

    def decides_by(self, group: ReceivedGroup) -> bool:
        """Whether members of a group are accepted for being members of it."""
        if self.status == PILOT and self._is_pilot(group):
            return True
        chosen = self.policy.member_of
        return chosen.which != EVERY and chosen.takes(group.name, *group.ids)

    def in_pilot(self, groups: Iterable[ReceivedGroup]) -> bool:
        """Whether a member of some groups is in the pilot group."""
        return any(self._is_pilot(each) for each in groups)

    def _is_pilot(self, group: ReceivedGroup) -> bool:
        wanted = fold(self.policy.pilot)
        return bool(wanted) and wanted in (fold(group.name), *(fold(each) for each in group.ids))

    def new_group_left_out(self, group: ReceivedGroup) -> str | None:
        """Return why a new group gives nothing yet, or None."""
        return SOURCE_DISABLED if self.status == DISABLED else self.group_left_out(group)

    def group_left_out(self, group: ReceivedGroup) -> str | None:
        """Return why a group gives nothing, or None."""
        return None if self.policy.groups.takes(group.name, *group.ids) else OUT_OF_SCOPE


@dataclass(frozen=True)
class StoredStanding:
    """How a record counts before it is looked at again.

    Attributes:
        user: the user in use, for a record that is linked; None before that.
        left_out: why it counts for no user.
        deleted: whether the source deleted it.
    """

    user: Mapping[str, Any] | None = None
    left_out: str | None = None
    deleted: bool = False


@dataclass(frozen=True)
class Standing:
    """How a record counts.

    Attributes:
        in_use: the user in use where it differs from what the source sent; else None.
        left_out: why it counts for no user, or None.
        waiting: what waits, or None.
        message: why it is left out, with a hint where there is one.
    """

    in_use: Mapping[str, Any] | None = None
    left_out: str | None = None
    waiting: str | None = None
    message: str = ""

    @property
    def accepted(self) -> bool:
        """Whether the record counts with what the source sent last."""
        return self.left_out is None and self.waiting is None


AS_SENT = Standing()


def standing(
    inbound: InboundPolicy,
    source_key: str,
    sent: Mapping[str, Any],
    groups: Iterable[ReceivedGroup],
    before: StoredStanding,
) -> Standing:
    """Return how a record counts.

    Args:
        inbound: the policy of its source.
        source_key: the key of the source.
        sent: the SCIM User that the source sent last.
        groups: the groups of the record; needed if `inbound.needs_groups`.
        before: how it counted until now.
    """
    if before.left_out == HANDED_OVER:
        return Standing(None if before.user == sent else before.user, HANDED_OVER)
    if before.left_out == ERASED:
        return Standing(None, ERASED, None, "This user was erased. An operator can accept the user again.")
    listed = tuple(groups)
    if inbound.status == DISABLED:
        return _frozen(inbound, sent, before, SOURCE_DISABLED)
    if inbound.status == PILOT and not inbound.in_pilot(listed):
        return _frozen(inbound, sent, before, NOT_IN_PILOT)
    if before.deleted:
        return AS_SENT
    try:
        user = inbound.policy.user(sent)
    except Refused as wrong:
        message = f"{wrong.message} {wrong.hint}".strip()
        if before.user is None:
            return Standing(None, REFUSED, None, message)
        # A user who is known stays as before, as in an import.
        return Standing(None if before.user == sent else before.user, before.left_out, CHANGE, message)
    return _judged(inbound.policy, source_key, sent, user, listed)


def _judged(
    policy: SourcePolicy,
    source_key: str,
    sent: Mapping[str, Any],
    user: dict[str, Any],
    groups: tuple[ReceivedGroup, ...],
) -> Standing:
    in_use = None if user == sent else user
    if not policy.lets_in(user, source_key):
        return Standing(in_use, OUT_OF_SCOPE, None, f"The user is outside the scope: {policy.users}.")
    missing = membership_missing(policy, groups)
    return Standing(in_use, NOT_A_MEMBER, None, missing) if missing else Standing(in_use)


def membership_missing(policy: SourcePolicy, groups: Iterable[ReceivedGroup]) -> str:
    """Return in a sentence of which groups a member of some groups is not a member, or an empty text."""
    chosen = policy.member_of
    if chosen.which == EVERY or any(chosen.takes(each.name, *each.ids) for each in groups):
        return ""
    named = f"a group that matches {chosen.pattern}" if chosen.pattern else ", ".join(chosen.names)
    return f"The user is not a member of {named}."


def _frozen(inbound: InboundPolicy, sent: Mapping[str, Any], before: StoredStanding, reason: str) -> Standing:
    """Return the standing of a record that changes nothing for now."""
    if before.user is None:
        message = (
            "The source is disabled." if reason == SOURCE_DISABLED else "The user is not in the pilot group."
        )
        return Standing(None, reason, None, message)
    try:
        wanted = inbound.policy.user(sent)
    except Refused:
        wanted = dict(sent)
    in_use = None if before.user == sent else before.user
    if before.deleted:
        return Standing(in_use, before.left_out, DELETION)
    if wanted == before.user:
        return Standing(in_use, before.left_out)
    ends = before.user.get("active", True) is not False and wanted.get("active", True) is False
    return Standing(in_use, before.left_out, DEACTIVATION if ends else CHANGE)
