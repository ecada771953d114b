"""How sources are read: settings, checks, runs and conflicts."""

from __future__ import annotations

from flask import Response

from dravo.services.access import user_detail
from dravo.services.access.user_detail import UserDetail
from dravo.services.changes.preview import Preview
from dravo.services.imports import config as import_config
from dravo.services.imports import refresh as import_refresh
from dravo.services.imports import runs as import_runs
from dravo.services.imports.config import Connector, ImportCheck, ImportSettings
from dravo.services.imports.runs import ImportRun, ImportRunEntry
from dravo.services.ingest import conflicts, record_links
from dravo.services.ingest.conflicts import ConflictDecisions, SourceConflict
from dravo.services.ingest.run_log import RunOptions
from dravo.services.sources import priority as source_priority
from dravo.services.sources.sources import SourceLine
from dravo.services.uploads import file_content
from dravo.store.pagination import ItemList, Page
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.common import KeyPath, PageQuery
from dravo.web.api.schemas.sources.imports import (
    CheckRequest,
    ConflictDecisionRequest,
    ConflictDecisionsRequest,
    ConflictPath,
    ConflictsQuery,
    FileRequest,
    ImportRunEntriesQuery,
    ImportSettingsRequest,
    LinkRecordRequest,
    PriorityRequest,
    RecordPath,
    RunPath,
    StartRunRequest,
    UserOfSourcePath,
)
from dravo.web.bodies import LARGEST_BODY

routes = api_blueprint("reading")


@routes.get("/connectors", responses=responses("sources.imports.Connectors"))
@needs("sources.read")
def list_kinds() -> ItemList[Connector]:
    """List connectors.

    Connectors for imports, with the settings of each.
    """
    return import_config.kinds()


@routes.get("/sources/<key>/import", responses=responses("sources.imports.ImportSettings"))
@needs("sources.read")
def get_reading(path: KeyPath) -> ImportSettings:
    """Get the import settings.

    Without the secret.
    """
    return import_config.shown(app_context(), path.key)


@routes.put("/sources/<key>/import", responses=responses("sources.imports.ImportSettings"))
@needs("sources.change")
def change_import(path: KeyPath, body: ImportSettingsRequest) -> ImportSettings:
    """Change the import settings.

    Omitted fields keep their value. A new host deletes the secret.
    """
    return import_config.change(app_context(), caller(), path.key, body.model_dump())


@routes.delete("/sources/<key>/import", responses={204: None})
@needs("sources.change")
def remove_import(path: KeyPath) -> Response:
    """Remove the import of a source.

    Its users and groups stay.
    """
    import_config.forget(app_context(), caller(), path.key)
    return Response(status=204)


@routes.post("/sources/<key>/import/check", responses=responses("sources.imports.ImportCheck"))
@needs("sources.change")
def check_reading(path: KeyPath, body: CheckRequest) -> ImportCheck:
    """Check the connection of a source.

    Checks the saved settings, or the given ones. Changes nothing.
    """
    given = {name: value for name, value in body.model_dump().items() if value is not None}
    return import_config.check(app_context(), caller(), path.key, given or None)


@routes.post("/sources/<key>/import/files", responses=responses("sources.imports.ImportSettings"))
@needs("sources.change", largest=LARGEST_BODY)
def put_file(path: KeyPath, body: FileRequest) -> ImportSettings:
    """Upload a file of a source.

    Replaces the existing file. The content is base64, at most 100 MB.
    """
    content = file_content(body.content, "content")
    return import_config.put_file(app_context(), caller(), path.key, body.name, content)


@routes.put("/sources/<key>/priority", responses=responses("sources.sources.Source"))
@needs("sources.change")
def change_priority(path: KeyPath, body: PriorityRequest) -> SourceLine:
    """Change the priority of a source.

    Large changes require `confirm`. A stale preview in `expect` is refused with 409.
    """
    return source_priority.change(app_context(), caller(), path.key, body.model_dump(), sure_of(body))


@routes.post("/sources/<key>/priority/preview", responses=responses("access.assignments.Preview"))
@needs("attributes.read")
def preview_priority(path: KeyPath, body: PriorityRequest) -> Preview:
    """Preview a changed priority.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return source_priority.preview(app_context(), path.key, body.model_dump())


@routes.get("/sources/<key>/import/runs", responses=responses("sources.imports.PageOfImportRuns"))
@needs("sources.read")
def list_runs(path: KeyPath, query: PageQuery) -> Page[ImportRun]:
    """List import runs.

    Runs of the source, newest first.
    """
    return import_runs.runs(app_context(), path.key, page_request(query))


@routes.post("/sources/<key>/import/runs", responses=responses("sources.imports.ImportRun", 201))
@needs("sources.change")
def start_run(path: KeyPath, body: StartRunRequest) -> tuple[ImportRun, int]:
    """Start an import run.

    With `preview`, changes nothing. Only one run of a source can be in progress.
    """
    options = RunOptions(preview=body.preview, whole=body.whole, allow_removals=body.allow_removals)
    return import_runs.request_run(app_context(), caller(), path.key, options, body.confirm), 201


@routes.get("/sources/<key>/import/runs/<run>", responses=responses("sources.imports.ImportRun"))
@needs("sources.read")
def get_run(path: RunPath) -> ImportRun:
    """Get an import run.

    Returns the progress or the result.
    """
    return import_runs.one_run(app_context(), path.run, path.key)


@routes.post("/sources/<key>/import/runs/<run>/stop", responses=responses("sources.imports.ImportRun"))
@needs("sources.change")
def stop_run(path: RunPath) -> ImportRun:
    """Stop an import run.

    Stops after the current batch. Changes made so far remain.
    """
    return import_runs.stop(app_context(), caller(), path.key, path.run)


@routes.get(
    "/sources/<key>/import/runs/<run>/entries", responses=responses("sources.imports.PageOfImportRunEntries")
)
@needs("attributes.read")
def list_lines(path: RunPath, query: ImportRunEntriesQuery) -> Page[ImportRunEntry]:
    """List entries of an import run.

    The result for each user and group, with values before and after.
    """
    return import_runs.lines(app_context(), path.key, path.run, page_request(query), query.kind, query.q)


@routes.post("/sources/<key>/users/<user>/refresh", responses=responses("sources.imports.ImportRun"))
@needs("sources.change")
def refresh_user(path: UserOfSourcePath) -> ImportRun:
    """Refresh one user of a source.

    Reads the user from the source now. The import must be enabled.
    """
    return import_refresh.refresh(app_context(), caller(), path.key, path.user)


@routes.get("/sources/<key>/conflicts", responses=responses("sources.imports.PageOfConflicts"))
@needs("sources.read")
def list_conflicts(path: KeyPath, query: ConflictsQuery) -> Page[SourceConflict]:
    """List conflicts.

    Records that could belong to more than one user.
    """
    return conflicts.list_conflicts(app_context(), caller(), path.key, page_request(query), query.status)


@routes.post("/sources/<key>/conflicts", responses=responses("sources.imports.ConflictDecisions"))
@needs("sources.change")
def decide_conflicts(path: KeyPath, body: ConflictDecisionsRequest) -> ConflictDecisions:
    """Resolve several conflicts.

    Applies one decision to each. A conflict that cannot be decided so is returned with the reason.
    """
    return conflicts.decide_many(app_context(), caller(), path.key, body.ids, body.decision)


@routes.post("/sources/<key>/conflicts/<conflict>", responses=responses("sources.imports.SourceConflict"))
@needs("sources.change")
def decide_conflict(path: ConflictPath, body: ConflictDecisionRequest) -> SourceConflict:
    """Resolve a conflict.

    Link needs `user`. The decision is applied immediately.
    """
    return conflicts.decide(app_context(), caller(), path.key, path.conflict, body.decision, body.user)


@routes.post("/records/<record>/link/preview", responses=responses("access.assignments.Preview"))
@needs("attributes.read")
def preview_move(path: RecordPath, body: LinkRecordRequest) -> Preview:
    """Preview a changed record link.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return record_links.preview(app_context(), path.record, body.to)


@routes.post("/records/<record>/link", responses=responses("users.User"))
@needs("sources.change")
def move_record(path: RecordPath, body: LinkRecordRequest) -> UserDetail:
    """Link a record to another user.

    Large changes require `confirm`. A stale preview in `expect` is refused with 409.
    """
    user_id = record_links.move(app_context(), caller(), path.record, body.to, sure_of(body))
    return user_detail.user(app_context(), user_id)
