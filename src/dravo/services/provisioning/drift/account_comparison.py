"""The whole list of an application's accounts beside the desired ones, as of the last reconciliation."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from dravo.core.provisioning.accounts import describe
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning.drift.differences import in_words
from dravo.services.security import masking
from dravo.store.pagination import Page, PageRequest
from dravo.store.provisioning import account_comparison as stored
from dravo.store.provisioning.account_comparison import (
    ABSENT,
    FOREIGN,
    IGNORED,
    SAME,
    AccountDifference,
    ComparedRow,
)
from dravo.store.queries.references import UserRef


@dataclass
class ComparedAccount:
    """An account of either side.

    Attributes:
        desired, listed: the state in words, empty without an account. Of an account that differs, `listed` is
            the state that Dravo applied last.
        differences: the attributes that differ, with their values in the application.
    """

    id: str
    status: str
    name: str
    user: UserRef | None
    remote_id: str | None
    desired: str
    listed: str
    differences: list[str]


def list_accounts(
    ctx: AppContext, key: str, page_request: PageRequest, status: str | None, words: str | None
) -> Page[ComparedAccount]:
    """Return a page of the accounts on both sides, by name.

    Args:
        status: "same", "different", "missing", "pending", "unexpected" or "ignored"; None for all.
        words: a part of the name, or an ID in the application.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        found = stored.list_accounts(connection, application.id, page_request, status, words, _line)
        ids = [each.id for each in found.items if each.status not in (FOREIGN, IGNORED)]
        open_ones = stored.differences(connection, ids)
        items = [_with_differences(each, open_ones.get(each.id, [])) for each in found.items]
        return replace(found, items=items)


def _line(row: ComparedRow) -> ComparedAccount:
    desired = describe(row.desired) if row.desired is not None else ""
    listed = _listed(row.there) if row.there is not None else ""
    if row.status == SAME:
        listed = desired
    elif row.applied is not None and row.remote_id is not None:
        listed = describe(row.applied)
    return ComparedAccount(
        id=row.id,
        status=row.status,
        name=row.name if row.user_id is not None else masking.text(row.name) or "",
        user=UserRef(row.user_id, row.name, row.user_name or "") if row.user_id is not None else None,
        remote_id=row.remote_id,
        desired=desired,
        listed=listed,
        differences=[],
    )


def _with_differences(each: ComparedAccount, found: Sequence[AccountDifference]) -> ComparedAccount:
    """Return an account with its differences in words; the listed state is the applied one but for these."""
    words = []
    for difference in found:
        words += [f"{change['attribute']}: {in_words(change['before'])}" for change in difference.changes]
    return replace(each, differences=words, listed="" if each.status == ABSENT else each.listed)


def _listed(there: Mapping[str, Any]) -> str:
    """Return an account of the application in words, as `describe` does."""
    roles = [
        str(each.get("display") or each.get("value")) if isinstance(each, Mapping) else str(each)
        for each in there.get("roles") or ()
    ]
    return ", ".join(["inactive" if there.get("active") is False else "active", *roles])
