"""What ingest takes and returns: options, results, and the plan of changed members."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from sqlalchemy import Connection

from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserPlan
from dravo.core.scim.schemas import STANDARD, SchemaSet
from dravo.core.scim.versions import ANY, Condition
from dravo.store.plan_writer import ConfirmedRemovals

NOBODY: frozenset[str] = frozenset()

Result = TypeVar("Result")


@dataclass(frozen=True)
class IngestResult:
    """A user or group after ingest: its ID, content, version and times.

    `listed` has (ID, name) of the user's groups.
    """

    id: str
    data: dict[str, Any]
    version: int
    created_at: Instant
    modified_at: Instant
    listed: Sequence[tuple[str, str]] = ()


@dataclass(frozen=True)
class IngestChange:
    """What ingest did to one user or group, for traces.

    `before` is None for a new object, `after` None for a deleted one; `marked` tells that its users are
    recomputed later, `linked` that a new record belongs to an existing user, `note` why the policy does
    not accept it.
    """

    kind: str
    id: str
    before: Mapping[str, Any] | None
    after: Mapping[str, Any] | None
    outcomes: Sequence[UserPlan] = ()
    catalogue: ConfigSnapshot | None = None
    added: int = 0
    removed: int = 0
    marked: bool = False
    linked: bool = False
    note: str = ""


@dataclass(frozen=True)
class IngestOptions:
    """How ingest applies something.

    Attributes:
        shapes: the schemas of the source.
        condition: the version that the request expects.
        trace: prepares the trace, which is written in the same transaction; called again for a new plan.
        cleared: removals that an operator confirmed, as in `apply_outcomes`.
    """

    shapes: SchemaSet = STANDARD
    condition: Condition = ANY
    trace: Callable[[IngestChange], Callable[[Connection], None]] | None = None
    cleared: ConfirmedRemovals | None = None

    def prepare(self, done: IngestChange) -> Callable[[Connection], None]:
        """Return what writes the trace; prepared before the writer's lock is taken, because nothing is
        computed under it.
        """
        return self.trace(done) if self.trace else lambda _: None


DEFAULT_OPTIONS = IngestOptions()


@dataclass(frozen=True)
class MemberPlan:
    """Members to add to a group and to remove from it, by ID."""

    users_added: frozenset[str] = frozenset()
    users_removed: frozenset[str] = frozenset()
    groups_added: frozenset[str] = frozenset()
    groups_removed: frozenset[str] = frozenset()

    @property
    def users(self) -> frozenset[str]:
        """All users whose membership changes."""
        return self.users_added | self.users_removed

    @property
    def nesting(self) -> bool:
        """Whether groups within groups change."""
        return bool(self.groups_added or self.groups_removed)

    def __bool__(self) -> bool:
        return bool(self.users or self.nesting)
