"""How sources are read: settings, checks, runs and conflicts."""

from __future__ import annotations

import base64
from typing import Any

from flask import Response

from dravo.core.errors import InvalidInput
from dravo.services import binding, conflicts, masking, pull_settings, pulling, voices
from dravo.web.api import asked as q
from dravo.web.api import asked_pull as p
from dravo.web.api.assignments import sure_of
from dravo.web.api.describing import answers
from dravo.web.api.door import ask, caller, house, needs, room
from dravo.web.bodies import LARGEST_BODY

rooms = room("reading")


@rooms.get("/readers", responses=answers("pull_models.ReaderKinds"))
@needs("sources.read")
def list_kinds() -> dict[str, Any]:
    """The kinds of sources that are read, with their settings."""
    return pull_settings.kinds()


@rooms.get("/sources/<key>/reading", responses=answers("pull_models.Reading"))
@needs("sources.read")
def get_reading(path: q.KeyPath) -> dict[str, Any]:
    """How a source is read."""
    return pull_settings.shown(house(), path.key)


@rooms.put("/sources/<key>/reading", responses=answers("pull_models.Reading"))
@needs("sources.change")
def change_reading(path: q.KeyPath, body: p.ReadingBody) -> dict[str, Any]:
    """Set how a source is read; what is left out stays."""
    return pull_settings.change(house(), caller(), path.key, body.model_dump())


@rooms.delete("/sources/<key>/reading", responses={204: None})
@needs("sources.change")
def forget_reading(path: q.KeyPath) -> Response:
    """Read a source no more; whom it brought stay."""
    pull_settings.forget(house(), caller(), path.key)
    return Response(status=204)


@rooms.post("/sources/<key>/reading/check", responses=answers("pull_models.ReadingCheck"))
@needs("sources.change")
def check_reading(path: q.KeyPath, body: p.CheckBody) -> dict[str, Any]:
    """Try a source's connection step by step, as it is kept or as given."""
    given = {name: value for name, value in body.model_dump().items() if value is not None}
    return pull_settings.check(house(), caller(), path.key, given or None)


@rooms.post("/sources/<key>/reading/try", responses=answers("pull_models.TriedAnswers"))
@needs("sources.change")
def try_answers(path: q.KeyPath, body: p.AnswersBody) -> dict[str, Any]:
    """What other answers would make of whom the source said something; nothing is changed."""
    return pull_settings.try_policy(house(), path.key, body.policy)


@rooms.post("/sources/<key>/reading/files", responses=answers("pull_models.Reading"))
@needs("sources.change", largest=LARGEST_BODY)
def put_file(path: q.KeyPath, body: p.FileBody) -> dict[str, Any]:
    """Put a file of a source in place of the one that was there."""
    try:
        content = base64.b64decode(body.content, validate=True)
    except ValueError:
        raise InvalidInput("The file did not arrive whole.", "Send it in base64.", "content") from None
    return pull_settings.put_file(house(), caller(), path.key, body.name, content)


@rooms.put("/sources/<key>/word", responses=answers("models.Source"))
@needs("sources.change")
def change_word(path: q.KeyPath, body: p.WordBody) -> dict[str, Any]:
    """Set whose word counts where several sources say something of one person."""
    return voices.change(house(), caller(), path.key, body.model_dump(), sure_of(body))


@rooms.post("/sources/<key>/word/preview", responses=answers("access_models.Preview"))
@needs("attributes.read")
def preview_word(path: q.KeyPath, body: p.WordBody) -> dict[str, Any]:
    """What it would do if other words counted; nothing is changed."""
    return voices.preview(house(), path.key, body.model_dump())


@rooms.get("/sources/<key>/runs", responses=answers("pull_models.PageOfSourceRuns"))
@needs("sources.read")
def list_runs(path: q.KeyPath, query: q.PageQuery) -> dict[str, Any]:
    """A source's runs, newest first."""
    return pulling.runs(house(), path.key, ask(query))


@rooms.post("/sources/<key>/runs", responses=answers("pull_models.SourceRun", 201))
@needs("sources.change")
def begin_run(path: q.KeyPath, body: p.RunBody) -> tuple[dict[str, Any], int]:
    """Have a source be read, or look at what that would do."""
    wish = {"look_only": body.look_only, "whole": body.whole, "let_leave": body.let_leave}
    return pulling.ask_for(house(), caller(), path.key, **wish, confirmed=body.confirm), 201


@rooms.get("/sources/<key>/runs/<run>", responses=answers("pull_models.SourceRun"))
@needs("sources.read")
def get_run(path: p.RunPath) -> dict[str, Any]:
    """One run: how far it is, or what it came to."""
    return pulling.one_run(house(), path.run, path.key)


@rooms.post("/sources/<key>/runs/<run>/stop", responses=answers("pull_models.SourceRun"))
@needs("sources.change")
def stop_run(path: p.RunPath) -> dict[str, Any]:
    """Stop a run at its next batch."""
    return pulling.stop(house(), caller(), path.key, path.run)


@rooms.get("/sources/<key>/runs/<run>/lines", responses=answers("pull_models.PageOfRunLines"))
@needs("attributes.read")
def list_lines(path: p.RunPath, query: p.LinesQuery) -> dict[str, Any]:
    """What a run did to people and groups, with before and after."""
    return pulling.lines(house(), path.key, path.run, ask(query), query.kind, query.q)


@rooms.post("/sources/<key>/people/<person>/refresh", responses=answers("pull_models.SourceRun"))
@needs("sources.change")
def refresh_person(path: p.PersonOfSourcePath) -> dict[str, Any]:
    """Read one person of a source anew, now; by the user's id."""
    return pulling.refresh(house(), caller(), path.key, path.person)


@rooms.get("/sources/<key>/conflicts", responses=answers("pull_models.PageOfConflicts"))
@needs("sources.read")
def list_conflicts(path: q.KeyPath, query: p.ConflictsQuery) -> dict[str, Any]:
    """What no rule can decide about a source's people and groups."""
    return conflicts.listing(house(), caller(), path.key, ask(query), query.state)


@rooms.post("/sources/<key>/conflicts/<conflict>", responses=answers("pull_models.SourceConflict"))
@needs("sources.change")
def decide_conflict(path: p.ConflictPath, body: p.ConflictDecisionBody) -> dict[str, Any]:
    """Decide a conflict; what was decided happens at once."""
    return conflicts.decide(house(), caller(), path.key, path.conflict, body.decision, body.person)


@rooms.post("/records/<record>/move/preview", responses=answers("access_models.Preview"))
@needs("attributes.read")
def preview_move(path: p.RecordPath, body: p.MoveBody) -> dict[str, Any]:
    """What it would do if a record belonged to another person; nothing is changed."""
    return binding.preview(house(), path.record, body.to)


@rooms.post("/records/<record>/move", responses=answers("people_models.Person"))
@needs("sources.change")
def move_record(path: p.RecordPath, body: p.MoveBody) -> dict[str, Any]:
    """Have a record belong to another person, or to somebody new, from now on."""
    moved = binding.move(house(), caller(), path.record, body.to, sure_of(body))
    return masking.for_caller(caller(), [moved])[0]
