"""What ingest takes and returns: options, results, and the plan of changed members."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from sqlalchemy import Connection

from dravo.core.instants import Instant
from dravo.core.planning import ConfigSnapshot, UserPlan
from dravo.core.scim.schemas import STANDARD, SchemaSet
from dravo.core.scim.versions import ANY, Condition
from dravo.store.plan_writer import ConfirmedRemovals

INBOUND_SCIM = "inbound_scim"
NOBODY: frozenset[str] = frozenset()

Result = TypeVar("Result")


@dataclass(frozen=True)
class IngestResult:
    """What intake made of a user or group: its id there, its content, its version and times.

    `listed` has (id, name) of the groups that list a user.
    """

    id: str
    data: dict[str, Any]
    version: int
    created_at: Instant
    modified_at: Instant
    listed: Sequence[tuple[str, str]] = ()


@dataclass(frozen=True)
class IngestChange:
    """What was done to one user or group: for anyone who keeps a trace of it.

    `before` is None for what was created, `after` None for what is gone; `marked` says that its users are
    worked out later.
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


@dataclass(frozen=True)
class IngestOptions:
    """How something is taken in.

    Attributes:
        shapes: the schemas that hold for the source.
        condition: which version it is for.
        trace: makes, out of what is to be done, what writes its trace in the same transaction; asked again
            if it has to be planned again.
        cleared: removals that an operator confirmed, as in `apply_outcomes`.
    """

    shapes: SchemaSet = STANDARD
    condition: Condition = ANY
    trace: Callable[[IngestChange], Callable[[Connection], None]] | None = None
    cleared: ConfirmedRemovals | None = None

    def prepare(self, done: IngestChange) -> Callable[[Connection], None]:
        """Return what writes the trace; made before the writer's lock is taken, for nothing is worked out
        while that is held.
        """
        return self.trace(done) if self.trace else lambda _: None


DEFAULT_OPTIONS = IngestOptions()


@dataclass(frozen=True)
class MemberPlan:
    """Who is added to and taken off a group's list, by id."""

    users_added: frozenset[str] = frozenset()
    users_removed: frozenset[str] = frozenset()
    groups_added: frozenset[str] = frozenset()
    groups_removed: frozenset[str] = frozenset()

    @property
    def users(self) -> frozenset[str]:
        """Everyone whose membership changes."""
        return self.users_added | self.users_removed

    @property
    def nesting(self) -> bool:
        """Whether groups within groups change."""
        return bool(self.groups_added or self.groups_removed)

    def __bool__(self) -> bool:
        return bool(self.users or self.nesting)
