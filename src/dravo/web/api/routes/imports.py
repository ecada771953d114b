"""How sources are read: settings, checks, runs and conflicts."""

from __future__ import annotations

import base64
from typing import Any

from flask import Response

from dravo.core.errors import InvalidInput
from dravo.services.access import explanation as access_explanation
from dravo.services.imports import config as import_config
from dravo.services.imports import refresh as import_refresh
from dravo.services.imports import runs as import_runs
from dravo.services.ingest import conflicts, record_links
from dravo.services.security import masking
from dravo.services.sources import priority as source_priority
from dravo.web.api.auth import ask, caller, house, needs, room
from dravo.web.api.openapi import answers
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.common import KeyPath, PageQuery
from dravo.web.api.schemas.imports import (
    CheckRequest,
    ConflictDecisionRequest,
    ConflictPath,
    ConflictsQuery,
    FileRequest,
    ImportSettingsRequest,
    LinesQuery,
    LinkRecordRequest,
    PersonOfSourcePath,
    PriorityRequest,
    RecordPath,
    RunPath,
    SourcePolicyRequest,
    StartRunRequest,
)
from dravo.web.bodies import LARGEST_BODY

rooms = room("reading")


@rooms.get("/readers", responses=answers("imports.ReaderKinds"))
@needs("sources.read")
def list_kinds() -> dict[str, Any]:
    """The kinds of sources that are read, with their settings."""
    return import_config.kinds()


@rooms.get("/sources/<key>/reading", responses=answers("imports.Reading"))
@needs("sources.read")
def get_reading(path: KeyPath) -> dict[str, Any]:
    """How a source is read."""
    return import_config.shown(house(), path.key)


@rooms.put("/sources/<key>/reading", responses=answers("imports.Reading"))
@needs("sources.change")
def change_reading(path: KeyPath, body: ImportSettingsRequest) -> dict[str, Any]:
    """Set how a source is read; what is left out stays."""
    return import_config.change(house(), caller(), path.key, body.model_dump())


@rooms.delete("/sources/<key>/reading", responses={204: None})
@needs("sources.change")
def forget_reading(path: KeyPath) -> Response:
    """Read a source no more; whom it brought stay."""
    import_config.forget(house(), caller(), path.key)
    return Response(status=204)


@rooms.post("/sources/<key>/reading/check", responses=answers("imports.ReadingCheck"))
@needs("sources.change")
def check_reading(path: KeyPath, body: CheckRequest) -> dict[str, Any]:
    """Try a source's connection step by step, as it is kept or as given."""
    given = {name: value for name, value in body.model_dump().items() if value is not None}
    return import_config.check(house(), caller(), path.key, given or None)


@rooms.post("/sources/<key>/reading/try", responses=answers("imports.TriedAnswers"))
@needs("sources.change")
def try_answers(path: KeyPath, body: SourcePolicyRequest) -> dict[str, Any]:
    """What other answers would make of whom the source said something; nothing is changed."""
    return import_config.try_policy(house(), path.key, body.policy)


@rooms.post("/sources/<key>/reading/files", responses=answers("imports.Reading"))
@needs("sources.change", largest=LARGEST_BODY)
def put_file(path: KeyPath, body: FileRequest) -> dict[str, Any]:
    """Put a file of a source in place of the one that was there."""
    try:
        content = base64.b64decode(body.content, validate=True)
    except ValueError:
        raise InvalidInput("The file did not arrive whole.", "Send it in base64.", "content") from None
    return import_config.put_file(house(), caller(), path.key, body.name, content)


@rooms.put("/sources/<key>/word", responses=answers("sources.Source"))
@needs("sources.change")
def change_word(path: KeyPath, body: PriorityRequest) -> dict[str, Any]:
    """Set whose word counts where several sources say something of one person."""
    return source_priority.change(house(), caller(), path.key, body.model_dump(), sure_of(body))


@rooms.post("/sources/<key>/word/preview", responses=answers("assignments.Preview"))
@needs("attributes.read")
def preview_word(path: KeyPath, body: PriorityRequest) -> dict[str, Any]:
    """What it would do if other words counted; nothing is changed."""
    return source_priority.preview(house(), path.key, body.model_dump())


@rooms.get("/sources/<key>/runs", responses=answers("imports.PageOfSourceRuns"))
@needs("sources.read")
def list_runs(path: KeyPath, query: PageQuery) -> dict[str, Any]:
    """A source's runs, newest first."""
    return import_runs.runs(house(), path.key, ask(query))


@rooms.post("/sources/<key>/runs", responses=answers("imports.SourceRun", 201))
@needs("sources.change")
def begin_run(path: KeyPath, body: StartRunRequest) -> tuple[dict[str, Any], int]:
    """Have a source be read, or look at what that would do."""
    wish = {"look_only": body.look_only, "whole": body.whole, "let_leave": body.let_leave}
    return import_runs.ask_for(house(), caller(), path.key, **wish, confirmed=body.confirm), 201


@rooms.get("/sources/<key>/runs/<run>", responses=answers("imports.SourceRun"))
@needs("sources.read")
def get_run(path: RunPath) -> dict[str, Any]:
    """One run: how far it is, or what it came to."""
    return import_runs.one_run(house(), path.run, path.key)


@rooms.post("/sources/<key>/runs/<run>/stop", responses=answers("imports.SourceRun"))
@needs("sources.change")
def stop_run(path: RunPath) -> dict[str, Any]:
    """Stop a run at its next batch."""
    return import_runs.stop(house(), caller(), path.key, path.run)


@rooms.get("/sources/<key>/runs/<run>/lines", responses=answers("imports.PageOfRunLines"))
@needs("attributes.read")
def list_lines(path: RunPath, query: LinesQuery) -> dict[str, Any]:
    """What a run did to people and groups, with before and after."""
    return import_runs.lines(house(), path.key, path.run, ask(query), query.kind, query.q)


@rooms.post("/sources/<key>/people/<person>/refresh", responses=answers("imports.SourceRun"))
@needs("sources.change")
def refresh_person(path: PersonOfSourcePath) -> dict[str, Any]:
    """Read one person of a source anew, now; by the user's id."""
    return import_refresh.refresh(house(), caller(), path.key, path.person)


@rooms.get("/sources/<key>/conflicts", responses=answers("imports.PageOfConflicts"))
@needs("sources.read")
def list_conflicts(path: KeyPath, query: ConflictsQuery) -> dict[str, Any]:
    """What no rule can decide about a source's people and groups."""
    return conflicts.listing(house(), caller(), path.key, ask(query), query.state)


@rooms.post("/sources/<key>/conflicts/<conflict>", responses=answers("imports.SourceConflict"))
@needs("sources.change")
def decide_conflict(path: ConflictPath, body: ConflictDecisionRequest) -> dict[str, Any]:
    """Decide a conflict; what was decided happens at once."""
    return conflicts.decide(house(), caller(), path.key, path.conflict, body.decision, body.person)


@rooms.post("/records/<record>/move/preview", responses=answers("assignments.Preview"))
@needs("attributes.read")
def preview_move(path: RecordPath, body: LinkRecordRequest) -> dict[str, Any]:
    """What it would do if a record belonged to another person; nothing is changed."""
    return record_links.preview(house(), path.record, body.to)


@rooms.post("/records/<record>/move", responses=answers("users.Person"))
@needs("sources.change")
def move_record(path: RecordPath, body: LinkRecordRequest) -> dict[str, Any]:
    """Have a record belong to another person, or to somebody new, from now on."""
    user_id = record_links.move(house(), caller(), path.record, body.to, sure_of(body))
    return masking.for_caller(caller(), [access_explanation.person(house(), user_id)])[0]
