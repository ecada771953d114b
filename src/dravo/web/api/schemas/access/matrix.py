"""The access matrix, comparison and simulation."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import GroupRef, KeyAndLabel, Page, PageQuery, RoleRef, SearchQuery, UserRef
from dravo.web.api.schemas.groups import Group
from dravo.web.api.schemas.users import UserLine


class MatrixGroup(Group):
    """A group with its roles by application."""

    roles: dict[str, list[str]]


class MatrixOfGroups(Page[MatrixGroup]):
    """A page of the group matrix with its columns."""

    applications: list[KeyAndLabel]


class ComparedRole(Model):
    """A role of one of two users, with its reason."""

    role: str
    because: list[str]


class ComparedApplication(Model):
    """The roles of two users in an application."""

    application: KeyAndLabel = Field(description="The application in which both users are compared.")
    same: bool
    sides: list[list[ComparedRole]]


class ComparedGroup(Model):
    """A group of one or both users."""

    group: GroupRef
    source: KeyAndLabel | None
    sides: list[bool]


class Compared(Model):
    """The comparison of two users; differences first."""

    users: list[UserLine] = Field(description="Both users.")
    applications: list[ComparedApplication] = Field(
        description="Applications in which one of the users has a role."
    )
    groups: list[ComparedGroup] = Field(description="Groups of one or both users.")


class MatrixUser(UserLine):
    """A user with their roles, by application."""

    roles: dict[str, list[str]] = Field(description="Roles by key of the application.")


class Matrix(Page[MatrixUser]):
    """A page of the matrix, with its columns."""

    applications: list[KeyAndLabel]
    whole: bool = Field(description="Whether the total is exact.")


class AccessDifference(Model):
    """A user whose roles in an application differ between two times."""

    id: str = Field(description="ID of the difference.")
    user: UserRef = Field(description="The user whose roles differ.")
    application: KeyAndLabel = Field(description="The application in which the roles differ.")
    what: Literal["joined", "left", "changed"] = Field(description="What happened: joined, left or changed.")
    before: list[str]
    after: list[str]
    at: str = Field(description="Time of the change.")
    reasons: list[str]


class PageOfAccessDifferences(Page[AccessDifference]):
    """A page of changes; the total counts users."""


class ExpectedRole(Model):
    """A role that a simulated user would get."""

    application: KeyAndLabel
    role: RoleRef
    reasons: list[str]
    account: str | None


class Expected(Model):
    """The access of a simulated user."""

    active: bool
    items: list[ExpectedRole]


class MatrixQuery(SearchQuery):
    """Filters for the access matrix."""

    application: str | None = Field(None, description="Only users with access to this application, by key.")
    role: str | None = Field(None, description="With an application: only users with this role, by key.")
    only: Literal["direct_only", "inactive_assigned", "highest_role"] | None = None
    at: str | None = Field(None, description="A past time, or the end of a day.")


class MatrixGroupsQuery(SearchQuery):
    """Filters for the group matrix."""

    source: str | None = Field(None, description="Only groups of this source, by key.")
    application: str | None = Field(None, description="Only this application, by key.")


class CompareQuery(Model):
    """The users to compare."""

    one: Text
    two: Text


class ExportQuery(MatrixQuery):
    """Filters and file format of an export."""

    form: Literal["csv", "json"] = "csv"


class AccessDifferencesQuery(PageQuery):
    """The times to compare."""

    since: str = Field(description="The earlier time, or the end of a day.")
    until: str = Field(description="The later time, or the end of a day.")
    application: str | None = Field(None, description="Key.")


class SimulateRequest(RequestModel):
    """A hypothetical user."""

    source: Text = Field(description="Key of the source.")
    attributes: dict[str, Any] = Field({}, description="A SCIM User as the source would send it.")
    groups: list[Text] = Field([], max_length=500, description="Groups of the source, by name or ID.")
