"""What provisioning a group asks for, and what it returns."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass
from typing import Any

from dravo.protocols.http_client import Request
from dravo.protocols.scim_client.account_sync import CAN_ALL, FullListQuery
from dravo.protocols.scim_client.capabilities import Capabilities


@dataclass(frozen=True)
class WantedGroup:
    """The desired group, and what is known.

    Attributes:
        external_id: our external ID, by which the group is recognized.
        name: the desired name; None to delete the group.
        whole: whether `members` and `ours` are given; without them only differences can be sent.
        look: whether to read the group first, because its applied state is not certain.
        members: the remote IDs of all desired members.
        add, remove: the differences to the applied state.
        ours: the remote IDs of all provisioned users; other members are left alone.
        agreed_name: the applied name.
        remote_id: the ID there, if known.
        origin: how the group was found.
        adopt: whether an unlinked group with the name may be adopted.
        capabilities: the capabilities of the application.
    """

    external_id: str
    name: str | None
    whole: bool = True
    look: bool = False
    members: frozenset[str] = frozenset()
    add: frozenset[str] = frozenset()
    remove: frozenset[str] = frozenset()
    ours: frozenset[str] = frozenset()
    applied_name: str | None = None
    remote_id: str | None = None
    origin: str | None = None
    adopt: bool = False
    capabilities: Capabilities = CAN_ALL


@dataclass(frozen=True)
class ReachedGroup:
    """The result for a group.

    Attributes:
        remote_id: the group's ID there; None without a group.
        origin: how it was found.
        left_out: remote IDs of members that the application refused: most often these accounts are deleted
            there.
        refusal: its response about the last of them.
    """

    remote_id: str | None
    origin: str | None = None
    left_out: frozenset[str] = frozenset()
    refusal: str = ""


@dataclass(frozen=True)
class Accounts:
    """Asks the caller for the IDs of all accounts, from a recent list.

    Sent a set of IDs, or None without such a list.
    """


Question = Request | FullListQuery | Accounts


Conversation = Generator[Question, Any, ReachedGroup]
# A change of members; None where the application has no such group.
MemberConversation = Generator[Question, Any, ReachedGroup | None]
# The group as the application has it, or None.
GroupReading = Generator[Question, Any, Mapping[str, Any] | None]
