"""The access matrix, comparison and simulation."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import GroupRef, Named, Page, PageQuery, RoleRef, SearchQuery, UserRef
from dravo.web.api.schemas.groups import Group
from dravo.web.api.schemas.users import UserLine


class MatrixGroup(Group):
    """A group with what it gives, by application."""

    roles: dict[str, list[str]]


class MatrixOfGroups(Page[MatrixGroup]):
    """A page of the matrix of groups, with its columns."""

    applications: list[Named]


class ComparedRole(Model):
    """A role of one of two users, and what it rests on."""

    role: str
    because: list[str]


class ComparedApplication(Model):
    """What each of two users has in an application."""

    application: Named
    same: bool
    sides: list[list[ComparedRole]]


class ComparedGroup(Model):
    """Which of two users are in a group."""

    group: GroupRef
    source: Named | None
    sides: list[bool]


class Compared(Model):
    """Two users side by side; what differs comes first."""

    users: list[UserLine]
    applications: list[ComparedApplication]
    groups: list[ComparedGroup]


class MatrixUser(UserLine):
    """A user with their roles, by application."""

    roles: dict[str, list[str]]


class Matrix(Page[MatrixUser]):
    """A page of the matrix, with its columns."""

    applications: list[Named]
    whole: bool = Field(description="Whether the total is all; else there are more than that.")


class Move(Model):
    """Somebody who has other roles in an application at one instant than at an earlier one, and by what."""

    id: str
    user: UserRef
    application: Named
    what: Literal["joined", "left", "changed"]
    before: list[str]
    after: list[str]
    at: str
    reasons: list[str]


class PageOfMoves(Page[Move]):
    """A page of changes by user; the total counts users."""


class ExpectedRole(Model):
    """A role that somebody would get, why, and what would become of the account."""

    application: Named
    role: RoleRef
    reasons: list[str]
    account: str | None


class Expected(Model):
    """What somebody would have."""

    active: bool
    items: list[ExpectedRole]


class MatrixQuery(SearchQuery):
    """What of the matrix."""

    application: str | None = Field(None, description="Only users with access to it, by key.")
    role: str | None = Field(None, description="With an application, only users in that role of it, by key.")
    only: Literal["direct_only", "inactive_assigned", "highest_role"] | None = None
    at: str | None = Field(None, description="A past instant, or a day, of which the end is meant.")


class MatrixGroupsQuery(SearchQuery):
    """Which groups against which applications."""

    source: str | None = Field(None, description="Only this source's, by key.")
    application: str | None = Field(None, description="Only this column, by key.")


class CompareQuery(Model):
    """Two users, each by id, user name, email or external id."""

    one: Text
    two: Text


class ExportQuery(MatrixQuery):
    """What of the matrix, in which form."""

    form: Literal["csv", "json"] = "csv"


class MovesQuery(PageQuery):
    """Between which two instants."""

    since: str = Field(description="The earlier instant, or a day, of which the end is meant.")
    until: str = Field(description="The later instant, or a day, of which the end is meant.")
    application: str | None = Field(None, description="By key.")


class SimulateRequest(RequestModel):
    """Somebody who does not exist yet."""

    source: Text = Field(description="Whose user it would be, by key.")
    attributes: dict[str, Any] = Field({}, description="A SCIM User, as the source would send it.")
    groups: list[Text] = Field([], max_length=500, description="Groups of that source, by name or id.")
