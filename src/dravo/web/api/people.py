"""People, groups, access, accounts: who there is, what they have, and why."""

from __future__ import annotations

from typing import Any

from dravo.core.errors import NotFound
from dravo.services import explaining, masking
from dravo.store import views
from dravo.web.api import asked as q
from dravo.web.api.describing import answers
from dravo.web.api.door import ALL, PATH_APPLICATION, QUERY, ask, caller, house, needs, room

rooms = room("people")


@rooms.get("/people", responses=answers("people_models.PageOfPeople"))
@needs("people.read", of=ALL)
def list_people(query: q.PeopleQuery) -> dict[str, Any]:
    """People by name."""
    with house().database.reading() as connection:
        found = views.people(connection, ask(query), query.q, query.state, emails=not masking.hidden())
    return {**found, "items": masking.for_caller(caller(), found["items"])}


@rooms.get("/people/<person>", responses=answers("people_models.Person"))
@needs("people.read")
def get_person(path: q.PersonPath) -> dict[str, Any]:
    """One person: attributes with the source of each, records, groups, access with its reasons, accounts."""
    return masking.for_caller(caller(), [explaining.person(house(), path.person)])[0]


@rooms.get("/people/<person>/why/<application>", responses=answers("people_models.Why"))
@needs("access.read", of=PATH_APPLICATION)
def why(path: q.WhyPath) -> dict[str, Any]:
    """What a person has in an application and why; or why not, and what would give it."""
    return explaining.why(house(), path.person, path.application)


@rooms.get("/groups", responses=answers("people_models.PageOfGroups"))
@needs("people.read", of=ALL)
def list_groups(query: q.GroupsQuery) -> dict[str, Any]:
    """Groups by name."""
    with house().database.reading() as connection:
        given = {group_id: len(each) for group_id, each in house().catalogue.get(connection).by_group.items()}
        mapped = None if query.mapped is None else query.mapped == "yes"
        return views.groups(connection, ask(query), query.q, query.source, given, mapped=mapped)


@rooms.get("/groups/<id>", responses=answers("people_models.GroupDetail"))
@needs("people.read")
def get_group(path: q.IdPath) -> dict[str, Any]:
    """One group, with the groups in and around it."""
    with house().database.reading() as connection:
        group = views.group_detail(connection, path.id)
    if group is None:
        raise NotFound(f"There is no group with the id '{path.id}'.", "It may be gone; see the list of groups.")
    return group


@rooms.get("/groups/<id>/members", responses=answers("people_models.PageOfPeople"))
@needs("people.read")
def list_members(path: q.IdPath, query: q.PageQuery) -> dict[str, Any]:
    """The people whom a group lists."""
    with house().database.reading() as connection:
        found = views.group_members(connection, path.id, ask(query))
    return {**found, "items": masking.for_caller(caller(), found["items"])}


@rooms.get("/access", responses=answers("people_models.PageOfAccess"))
@needs("access.read", of=QUERY)
def list_access(query: q.AccessQuery) -> dict[str, Any]:
    """Who has which role where, since when and why."""
    with house().database.reading() as connection:
        return views.access(connection, ask(query), query.application, query.role, query.person, query.group, query.q, ended=query.ended)


@rooms.get("/accounts", responses=answers("people_models.PageOfAccounts"))
@needs("access.read", of=QUERY)
def list_accounts(query: q.AccountsQuery) -> dict[str, Any]:
    """Accounts: how people stand in applications."""
    with house().database.reading() as connection:
        found = views.accounts(connection, ask(query), query.application, query.person, query.state, query.q)
    return {**found, "items": masking.accounts(found["items"])}


@rooms.get("/accounts/<id>", responses=answers("people_models.AccountDetail"))
@needs("attributes.read")
def get_account(path: q.IdPath) -> dict[str, Any]:
    """One account, with what is due and what was agreed."""
    with house().database.reading() as connection:
        account = views.account(connection, path.id)
    if account is None:
        raise NotFound(f"There is no account with the id '{path.id}'.")
    return account
