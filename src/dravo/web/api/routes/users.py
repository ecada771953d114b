"""Users, groups, access, accounts: who there is, what they have, and why."""

from __future__ import annotations

from dataclasses import replace

from dravo.core.errors import NotFound
from dravo.services.access import explanation as access_explanation
from dravo.services.access import user_detail
from dravo.services.access.explanation import AccessExplanation
from dravo.services.access.user_detail import UserDetail
from dravo.services.security import masking
from dravo.store.pagination import Page
from dravo.store.queries import access as access_queries
from dravo.store.queries import accounts as account_queries
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.access import AccessFilter, AccessLine
from dravo.store.queries.accounts import AccountDetail, AccountLine
from dravo.store.queries.groups import GroupDetail, GroupLine
from dravo.store.queries.users import UserLine
from dravo.web.api.auth import (
    ALL,
    PATH_APPLICATION,
    QUERY,
    api_blueprint,
    app_context,
    caller,
    needs,
    page_request,
)
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.access.access import AccessQuery
from dravo.web.api.schemas.applications.accounts import AccountsQuery
from dravo.web.api.schemas.common import IdPath, PageQuery
from dravo.web.api.schemas.groups import GroupsQuery
from dravo.web.api.schemas.users import AccessExplanationPath, UserPath, UsersQuery

routes = api_blueprint("users")


@routes.get("/users", responses=responses("users.PageOfUsers"))
@needs("users.read", of=ALL)
def list_users(query: UsersQuery) -> Page[UserLine]:
    """List users.

    Users by name.
    """
    with app_context().database.reading() as connection:
        found = user_queries.users(
            connection, page_request(query), query.q, query.status, emails=not masking.hidden()
        )
    return replace(found, items=masking.users(caller(), found.items))


@routes.get("/users/<user>", responses=responses("users.User"))
@needs("users.read")
def get_user(path: UserPath) -> UserDetail:
    """Get a user.

    Returns attributes with their sources, records, groups, access and accounts.
    """
    return user_detail.user(app_context(), path.user)


@routes.get("/users/<user>/access/<application>", responses=responses("users.AccessExplanation"))
@needs("access.read", of=PATH_APPLICATION)
def why(path: AccessExplanationPath) -> AccessExplanation:
    """Explain the access of a user.

    Returns the reasons, or why the user has no access.
    """
    return access_explanation.why(app_context(), path.user, path.application)


@routes.get("/groups", responses=responses("groups.PageOfGroups"))
@needs("users.read", of=ALL)
def list_groups(query: GroupsQuery) -> Page[GroupLine]:
    """List groups.

    Groups by name, with their source and number of members.
    """
    with app_context().database.reading() as connection:
        given = {
            group_id: len(each) for group_id, each in app_context().catalogue.get(connection).by_group.items()
        }
        mapped = None if query.mapped is None else query.mapped == "yes"
        return group_queries.groups(
            connection, page_request(query), query.q, query.source, given, mapped=mapped
        )


@routes.get("/groups/<id>", responses=responses("groups.GroupDetail"))
@needs("users.read")
def get_group(path: IdPath) -> GroupDetail:
    """Get a group.

    Returns the group with nested groups and assigned roles.
    """
    with app_context().database.reading() as connection:
        group = group_queries.group_detail(connection, path.id)
    if group is None:
        raise NotFound(
            f"There is no group with the ID '{path.id}'.",
            "It may have been deleted. Choose one from the list of groups.",
        )
    return group


@routes.get("/groups/<id>/members", responses=responses("users.PageOfUsers"))
@needs("users.read")
def list_members(path: IdPath, query: PageQuery) -> Page[UserLine]:
    """List members of a group.

    Direct members only.
    """
    with app_context().database.reading() as connection:
        found = group_queries.group_members(connection, path.id, page_request(query))
    return replace(found, items=masking.users(caller(), found.items))


@routes.get("/access", responses=responses("access.access.PageOfAccess"))
@needs("access.read", of=QUERY)
def list_access(query: AccessQuery) -> Page[AccessLine]:
    """List access.

    Each row is a role of a user in an application, with its reasons and account. Application owners see
    their own applications.
    """
    with app_context().database.reading() as connection:
        return access_queries.access(
            connection,
            page_request(query),
            AccessFilter(
                application_key=query.application,
                role_key=query.role,
                user_id=query.user,
                group_id=query.group,
                words=query.q,
                ended=query.ended,
            ),
        )


@routes.get("/accounts", responses=responses("applications.accounts.PageOfAccounts"))
@needs("access.read", of=QUERY)
def list_accounts(query: AccountsQuery) -> Page[AccountLine]:
    """List accounts.

    Accounts of users in applications, with their status.
    """
    with app_context().database.reading() as connection:
        found = account_queries.accounts(
            connection, page_request(query), query.application, query.user, query.status, query.q
        )
    return replace(found, items=masking.accounts(found.items))


@routes.get("/accounts/<id>", responses=responses("applications.accounts.AccountDetail"))
@needs("attributes.read")
def get_account(path: IdPath) -> AccountDetail:
    """Get an account.

    Returns the account with its desired and applied state.
    """
    with app_context().database.reading() as connection:
        account = account_queries.account(connection, path.id)
    if account is None:
        raise NotFound(f"There is no account with the ID '{path.id}'.")
    return account
