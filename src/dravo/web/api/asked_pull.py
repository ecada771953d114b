"""What the management API takes about reading sources."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.asked import Given, PageQuery, SearchQuery, SureBody, Text
from dravo.web.api.base import Model


class ReadingBody(Given):
    """How a source is read; what is left out stays as it is."""

    kind: str | None = Field(None, max_length=16)
    settings: dict[str, str | bool] | None = None
    secret: str | None = Field(None, max_length=20_000, description="Kept encrypted; an empty one takes it away.")
    schedule: str | None = Field(None, max_length=100, description="A cron expression; empty: never by itself.")
    policy: dict[str, Any] | None = Field(
        None, description="Answers to the five questions: match, domains, people, groups, groups_from, gives, makes, pilot, attributes."
    )
    in_force: bool | None = None
    in_force_at: str | None = Field(None, max_length=40, description="The instant from which on it is in force; empty: none.")


class WordBody(SureBody):
    """Whose word counts; what is left out stays."""

    precedence: int | None = Field(None, description="Of several sources that say something, the lowest number is heard first.")
    veto: bool | None = Field(None, description="Its inactive counts whatever others say.")
    updates: bool | None = Field(None, description="Whether it says anything of people whom another source knows.")


class CheckBody(Given):
    """A connection that is not saved yet; empty: as it is kept."""

    kind: str | None = Field(None, max_length=16)
    settings: dict[str, str | bool] | None = None
    secret: str | None = Field(None, max_length=20_000)


class AnswersBody(Given):
    """Answers that are tried."""

    policy: dict[str, Any] = {}


class FileBody(Given):
    """A file, in base64."""

    name: Literal["people.csv", "groups.csv", "memberships.csv"]
    content: str = Field(max_length=90_000_000)


class RunBody(Given):
    """How a source is to be read."""

    look_only: bool = Field(False, description="Show what it would do, and change nothing.")
    whole: bool = Field(False, description="Read everybody, also where what changed would do.")
    let_leave: bool = Field(False, description="Whoever is missing may leave, however many they are.")
    confirm: Text | None = Field(None, description="The source's label, typed; for let_leave.")


class ConflictDecisionBody(Given):
    """How a conflict is decided."""

    decision: Literal["link", "make", "let", "leave out"]
    person: Text | None = Field(None, description="Who it is, for 'link': by id, user name, e-mail or external id.")


class LinesQuery(SearchQuery):
    """Which lines of a run."""

    kind: str | None = Field(None, max_length=16)


class ConflictsQuery(PageQuery):
    """Which conflicts."""

    state: Literal["open", "decided"] = "open"


class MoveBody(SureBody):
    """Whose a record is."""

    to: Text | None = Field(None, description="By id, user name, e-mail or external id; left out: somebody new.")


class RecordPath(Model):
    """A record."""

    record: str


class RunPath(Model):
    """A run of a source."""

    key: str
    run: str


class ConflictPath(Model):
    """A conflict of a source."""

    key: str
    conflict: str


class PersonOfSourcePath(Model):
    """A person, as a source knows them."""

    key: str
    person: str
