"""The client: one attribute for each noun of the work."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, TypeVar, cast
from urllib.parse import quote

import httpx

from dravo.client import types as t
from dravo.client.errors import ApiError, ServiceUnreachable, error_for
from dravo.client.pages import Pages

Item = TypeVar("Item")


class Dravo:
    """A service, called with an API token.

    Args:
        url: the service's address, such as http://127.0.0.1:8420.
        token: an API token, from the console or `dravo token add`.
        timeout: seconds to wait for an answer.
    """

    def __init__(self, url: str, token: str, timeout: float = 60.0) -> None:
        self._http = httpx.Client(
            base_url=url.rstrip("/") + "/api/v1", headers={"Authorization": f"Bearer {token}"}, timeout=timeout, trust_env=False
        )
        self.url = url
        self.sources = Sources(self)
        self.people = People(self)
        self.groups = Groups(self)
        self.applications = Applications(self)
        self.assignments = Assignments(self)
        self.accounts = Accounts(self)
        self.deliveries = Deliveries(self)
        self.operators = Operators(self)
        self.tokens = Tokens(self)

    def __enter__(self) -> Dravo:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    def call(self, method: str, path: str, *, query: dict[str, Any] | None = None, body: dict[str, Any] | None = None) -> Any:
        """Make one call and return what the service answered; values that are None are left out.

        Raises:
            ApiError: one of its kinds, with the service's words.
        """
        parameters = {name: _plain(value) for name, value in (query or {}).items() if value is not None}
        content = {name: value for name, value in body.items() if value is not None} if body is not None else None
        try:
            answer = self._http.request(method, path, params=parameters, json=content)
        except httpx.HTTPError as wrong:
            raise ServiceUnreachable(f"The service at {self.url} does not answer ({wrong}).", "Is it running, and is the address right?") from wrong
        if answer.is_success:
            try:
                return answer.json() if answer.content else None
            except ValueError:
                raise ApiError(
                    f"{self.url} answered with something that is not JSON.", "Is it Dravo's own address?", status=answer.status_code
                ) from None
        raise self._wrong(answer)

    def stream(self, path: str, query: dict[str, Any]) -> Iterator[bytes]:
        """Yield what the service answers to a GET, piece by piece.

        Raises:
            ApiError: as `call`.
        """
        parameters = {name: _plain(value) for name, value in query.items() if value is not None}
        try:
            with self._http.stream("GET", path, params=parameters) as answer:
                if not answer.is_success:
                    answer.read()
                    raise self._wrong(answer)
                yield from answer.iter_bytes()
        except httpx.HTTPError as wrong:
            raise ServiceUnreachable(f"The service at {self.url} does not answer ({wrong}).", "Is it running, and is the address right?") from wrong

    def _wrong(self, answer: httpx.Response) -> ApiError:
        try:
            told = dict(answer.json()["error"])
        except (ValueError, KeyError, TypeError):
            told = {"message": f"{self.url} answered with {answer.status_code}, and not as Dravo does.", "mend": "Is the address right?"}
        kind = error_for(answer.status_code)
        return kind(told.get("message", ""), told.get("mend") or "", told.get("code", "error"), answer.status_code, told.get("field"))

    def overview(self) -> t.Overview:
        """Return how much there is at each stage, and how much needs a person."""
        return cast(t.Overview, self.call("GET", "/overview"))

    def access(
        self,
        *,
        application: str | None = None,
        role: str | None = None,
        person: str | None = None,
        group: str | None = None,
        words: str | None = None,
        ended: bool = False,
    ) -> Pages[t.Access]:
        """List who has which role where, since when and why; `person` and `group` by id."""
        return self.pages(
            "/access",
            {"application": application, "role": role, "person": person, "group": group, "q": words, "ended": ended or None},
        )

    def activity(
        self,
        *,
        kind: str | None = None,
        source: str | None = None,
        application: str | None = None,
        person: str | None = None,
        trouble: bool | None = None,
        until: str | None = None,
    ) -> Pages[t.ActivityLine]:
        """Return what happened, newest first.

        Args:
            kind: "request", "delivery", "reconciliation" or "change".
            source, application: by key.
            person: by id.
            trouble: only what did not go well.
            until: only what happened before this instant.
        """
        about = {"kind": kind, "source": source, "application": application, "person": person, "trouble": trouble, "until": until}
        return self.pages("/activity", about)

    def matrix(
        self, *, words: str | None = None, application: str | None = None, role: str | None = None, only: str | None = None, at: str | None = None
    ) -> Pages[t.MatrixPerson]:
        """Return people with their roles by application, now or at a past instant (or the end of a day).

        Args:
            words: a part of a name, user name or e-mail.
            application, role: only people who have that, by key.
            only: "direct only", "inactive but assigned" or "highest role".
            at: an instant or a day.
        """
        return self.pages("/matrix", {"q": words, "application": application, "role": role, "only": only, "at": at})

    def export_matrix(self, form: str = "csv", **view: str | None) -> Iterator[bytes]:
        """Yield the whole matrix in pieces, as "csv" or "json"; `view` as in `matrix`."""
        query = {**view, "form": form, "q": view.get("words")}
        query.pop("words", None)
        return self.stream("/matrix/export", query)

    def changes(self, since: str, until: str, application: str | None = None) -> Pages[t.Move]:
        """Return who has other roles at `until` than at `since`, and by what; each an instant or a day."""
        return self.pages("/matrix/changes", {"since": since, "until": until, "application": application})

    def expected(self, source: str, attributes: dict[str, Any], groups: Sequence[str] = ()) -> t.Expected:
        """Return which roles somebody would get who does not exist yet; nothing is changed."""
        body = {"source": source, "attributes": attributes, "groups": [*groups]}
        return cast(t.Expected, self.call("POST", "/access/expected", body=body))

    def guard(self) -> Sequence[t.GuardItem]:
        """Return what the guard holds, for each application."""
        return cast(Sequence[t.GuardItem], self.call("GET", "/guard")["items"])

    def let_through(self, application: str, confirm: str) -> int:
        """Let what the guard holds for an application through; `confirm` is its label. Returns how many removals."""
        return int(self.call("POST", f"/guard/{_part(application)}/let-through", body={"confirm": confirm})["number"])

    def drop_held(self, application: str, confirm: str) -> int:
        """Drop what the guard holds for an application; `confirm` is its label. Returns how many removals."""
        return int(self.call("POST", f"/guard/{_part(application)}/drop", body={"confirm": confirm})["number"])

    def audit(self, kind: str | None = None, object_id: str | None = None) -> Pages[t.AuditEntry]:
        """List what operators changed, newest first."""
        return self.pages("/audit", {"kind": kind, "object": object_id})

    def preview_undo(self, entry: int) -> t.Preview:
        """Return what taking an entry of the audit log back would do: a change of an assignment or policy."""
        return cast(t.Preview, self.call("GET", f"/audit/{entry}/undo"))

    def undo(self, entry: int, confirm: str | None = None) -> None:
        """Take an entry of the audit log back; `confirm` is the application's label, where that is grave."""
        self.call("POST", f"/audit/{entry}/undo", body={"confirm": confirm})

    def audit_verdict(self) -> t.AuditVerdict:
        """Return whether the chain of the audit log holds."""
        return cast(t.AuditVerdict, self.call("GET", "/audit/verdict"))

    def settings(self) -> list[t.Setting]:
        """Return what is set for the whole house."""
        return cast(t.HouseSettings, self.call("GET", "/settings"))["items"]

    def change_setting(self, name: str, value: int | str) -> list[t.Setting]:
        """Give a setting another value."""
        return cast(t.HouseSettings, self.call("PUT", f"/settings/{_part(name)}", body={"value": value}))["items"]

    def try_expression(self, expression: str, person: str | None = None, attribute: str | None = None) -> t.Tried:
        """Return what an expression makes for a person, and what it does in words."""
        return cast(t.Tried, self.call("POST", "/expressions/try", body={"expression": expression, "person": person, "attribute": attribute}))

    def pages(self, path: str, query: dict[str, Any] | None = None) -> Pages[Any]:
        """Return a list that comes in pages."""
        return Pages(lambda after, count: self.call("GET", path, query={**(query or {}), "after": after, "count": count}))


def _plain(value: Any) -> Any:
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else value


def _part(text: str) -> str:
    return quote(text, safe="@")


class _Noun:
    def __init__(self, dravo: Dravo) -> None:
        self._dravo = dravo
        self._call = dravo.call


class Sources(_Noun):
    """Sources, their tokens and exchange sheets."""

    def list(self) -> Pages[t.Source]:
        """List sources."""
        return self._dravo.pages("/sources")

    def get(self, key: str) -> t.Source:
        """Return one source."""
        return cast(t.Source, self._call("GET", f"/sources/{_part(key)}"))

    def add(self, key: str, label: str) -> t.Source:
        """Add a source that pushes."""
        return cast(t.Source, self._call("POST", "/sources", body={"key": key, "label": label}))

    def rename(self, key: str, label: str) -> t.Source:
        """Give a source another label."""
        return cast(t.Source, self._call("PATCH", f"/sources/{_part(key)}", body={"label": label}))

    def remove(self, key: str) -> None:
        """Remove a source that has brought nobody."""
        self._call("DELETE", f"/sources/{_part(key)}")

    def sheet(self, key: str) -> t.ExchangeSheet:
        """Return the exchange sheet of a source's push channel."""
        return cast(t.ExchangeSheet, self._call("GET", f"/sources/{_part(key)}/sheet"))

    def tokens(self, key: str) -> Pages[t.PushToken]:
        """List a source's push tokens, without their texts."""
        return self._dravo.pages(f"/sources/{_part(key)}/tokens")

    def add_token(self, key: str, label: str, expires_at: str | None = None, *, kinds: str = "both", access: str = "write") -> t.NewToken:
        """Make a push token for `kinds` "users", "groups" or "both"; its text is in the answer, the only time."""
        body = {"label": label, "expires_at": expires_at, "kinds": kinds, "access": access}
        return cast(t.NewToken, self._call("POST", f"/sources/{_part(key)}/tokens", body=body))

    def revoke_token(self, key: str, token_id: str) -> None:
        """Revoke a push token."""
        self._call("DELETE", f"/sources/{_part(key)}/tokens/{_part(token_id)}")

    def schemas(self, key: str) -> Sequence[t.SourceSchema]:
        """Return the extension schemas of a source."""
        return cast(t.SourceSchemas, self._call("GET", f"/sources/{_part(key)}/schemas"))["items"]

    def add_schema(self, key: str, kind: str, document: dict[str, Any]) -> Sequence[t.SourceSchema]:
        """Add an extension schema (RFC 7643, section 7) to a source's people ("User") or groups ("Group")."""
        body = {"kind": kind, "document": document}
        return cast(t.SourceSchemas, self._call("POST", f"/sources/{_part(key)}/schemas", body=body))["items"]

    def remove_schema(self, key: str, urn: str) -> None:
        """Remove an extension schema from a source."""
        self._call("DELETE", f"/sources/{_part(key)}/schemas/{_part(urn)}")

    def requests(self, key: str, *, words: str | None = None, outcome: str | None = None, method: str | None = None) -> Pages[t.TraceLine]:
        """List what a source asked for, newest first; `outcome` is "refused", "changed" or "read"."""
        return self._dravo.pages(f"/sources/{_part(key)}/requests", {"q": words, "outcome": outcome, "method": method})

    def request(self, key: str, request_id: str) -> t.Trace:
        """Return one request with its body."""
        return cast(t.Trace, self._call("GET", f"/sources/{_part(key)}/requests/{_part(request_id)}"))


class People(_Noun):
    """People: who they are, what they have, and why."""

    def list(self, *, words: str | None = None, state: str | None = None) -> Pages[t.PersonLine]:
        """List people by name."""
        return self._dravo.pages("/people", {"q": words, "state": state})

    def get(self, person: str) -> t.Person:
        """Return one person by id, user name, e-mail or external id."""
        return cast(t.Person, self._call("GET", f"/people/{_part(person)}"))

    def why(self, person: str, application: str) -> t.Why:
        """Explain what a person has in an application, or why nothing."""
        return cast(t.Why, self._call("GET", f"/people/{_part(person)}/why/{_part(application)}"))


class Groups(_Noun):
    """Groups and their members."""

    def list(self, *, words: str | None = None, source: str | None = None, mapped: bool | None = None) -> Pages[t.Group]:
        """List groups by name; `mapped`: only those that an assignment names, by itself or by a pattern, or only those that none does."""
        return self._dravo.pages("/groups", {"q": words, "source": source, "mapped": None if mapped is None else "yes" if mapped else "no"})

    def get(self, group_id: str) -> t.Group:
        """Return one group by id."""
        return cast(t.Group, self._call("GET", f"/groups/{_part(group_id)}"))

    def members(self, group_id: str) -> Pages[t.PersonLine]:
        """List the people in a group."""
        return self._dravo.pages(f"/groups/{_part(group_id)}/members")


class Applications(_Noun):
    """Applications, their roles and connections."""

    def list(self) -> Pages[t.ApplicationLine]:
        """List applications."""
        return self._dravo.pages("/applications")

    def get(self, key: str) -> t.Application:
        """Return one application."""
        return cast(t.Application, self._call("GET", f"/applications/{_part(key)}"))

    def add(self, key: str, label: str, *, owner: str | None = None, tracked_only: bool = False) -> t.Application:
        """Add an application."""
        body = {"key": key, "label": label, "owner": owner, "tracked_only": tracked_only}
        return cast(t.Application, self._call("POST", "/applications", body=body))

    def change(self, key: str, **values: Any) -> t.Application:
        """Change label, owner or settings, such as `switched_on=True` or `on_gone="delete"`."""
        return cast(t.Application, self._call("PATCH", f"/applications/{_part(key)}", body=values))

    def remove(self, key: str, confirm: str) -> None:
        """Remove an application that nobody has access to; its label confirms."""
        self._call("DELETE", f"/applications/{_part(key)}", query={"confirm": confirm})

    def add_role(self, key: str, role: str, label: str, rank: int = 1) -> t.Application:
        """Add a role; a higher rank may do more."""
        return cast(t.Application, self._call("POST", f"/applications/{_part(key)}/roles", body={"key": role, "label": label, "rank": rank}))

    def change_role(self, key: str, role: str, *, label: str | None = None, rank: int | None = None) -> t.Application:
        """Give a role another label or rank."""
        path = f"/applications/{_part(key)}/roles/{_part(role)}"
        return cast(t.Application, self._call("PATCH", path, body={"label": label, "rank": rank}))

    def remove_role(self, key: str, role: str) -> t.Application:
        """Remove a role that was never given."""
        return cast(t.Application, self._call("DELETE", f"/applications/{_part(key)}/roles/{_part(role)}"))

    def mapping(self, key: str) -> Pages[t.Assignment]:
        """List which groups, patterns and rules give which role, whom each reaches, and what is amiss."""
        return self._dravo.pages(f"/applications/{_part(key)}/mapping")

    def map_many(self, key: str, text: str, *, apply: bool = False) -> t.Bulk:
        """Map many groups at once, `source, group, role` on each line; only looked at, unless `apply` is said."""
        return cast(t.Bulk, self._call("POST", f"/applications/{_part(key)}/mapping/bulk", body={"text": text, "apply": apply}))

    def try_pattern(self, key: str, source: str, pattern: str) -> t.PatternTried:
        """Return what a pattern makes of the groups of a source; nothing is changed."""
        body = {"source": source, "pattern": pattern}
        return cast(t.PatternTried, self._call("POST", f"/applications/{_part(key)}/mapping/pattern", body=body))

    def change_policy(self, key: str, **policy: Any) -> t.Application:
        """Set `open_to=`, `if_nothing=`, `default_role=`, `several=` or `first=`; what is left out stays."""
        return cast(t.Application, self._call("PUT", f"/applications/{_part(key)}/policy", body=policy))

    def preview_policy(self, key: str, **policy: str | None) -> t.Preview:
        """Return what another policy would do; nothing is changed."""
        return cast(t.Preview, self._call("POST", f"/applications/{_part(key)}/policy/preview", body=policy))

    def preview_settings(self, key: str, **values: Any) -> t.SettingsPreview:
        """Return what `change` would do to accounts; nothing is changed."""
        return cast(t.SettingsPreview, self._call("POST", f"/applications/{_part(key)}/settings/preview", body=values))

    def groups(self, key: str) -> Pages[t.DeliveredGroup]:
        """List the groups that go over to an application, each with its state."""
        return self._dravo.pages(f"/applications/{_part(key)}/groups")

    def group_again(self, key: str, group_id: str) -> None:
        """Try a delivered group again now."""
        self._call("POST", f"/applications/{_part(key)}/groups/{_part(group_id)}/again")

    def reconcile(self, key: str) -> t.Run:
        """Have an application be compared with what should be there; see `run` for how far it is."""
        return cast(t.Run, self._call("POST", f"/applications/{_part(key)}/runs"))

    def runs(self, key: str) -> Pages[t.Run]:
        """List an application's reconciliations, newest first."""
        return self._dravo.pages(f"/applications/{_part(key)}/runs")

    def run(self, run_id: str) -> t.Run:
        """Return one reconciliation."""
        return cast(t.Run, self._call("GET", f"/runs/{_part(run_id)}"))

    def stop_run(self, run_id: str) -> t.Run:
        """Stop a reconciliation at its next page."""
        return cast(t.Run, self._call("POST", f"/runs/{_part(run_id)}/stop"))

    def drift(self, key: str, *, kind: str | None = None, state: str | None = None) -> Pages[t.DriftLine]:
        """List in what an application differs from what should be there, as of its last whole reconciliation."""
        return self._dravo.pages(f"/applications/{_part(key)}/drift", {"kind": kind, "state": state})

    def mend_drift(self, key: str, ids: Sequence[str]) -> int:
        """Have accounts that drifted be brought to what is due; return how many."""
        return cast(t.Number, self._call("POST", f"/applications/{_part(key)}/drift/mend", body={"ids": list(ids)}))["number"]

    def ignore_drift(self, key: str, ids: Sequence[str], *, ignored: bool = True) -> int:
        """Leave differences as they are and out of the list, or take that back; return how many."""
        body = {"ids": list(ids), "ignored": ignored}
        return cast(t.Number, self._call("POST", f"/applications/{_part(key)}/drift/ignore", body=body))["number"]

    def link_drift(self, key: str, drift_id: str, person: str) -> None:
        """Say whose account there an unexpected one is."""
        self._call("POST", f"/applications/{_part(key)}/drift/{_part(drift_id)}/link", body={"person": person})

    def connect(
        self, key: str, base_url: str, token: str | None = None, *, auth: dict[str, Any] | None = None, expires_at: str | None = None
    ) -> t.Application:
        """Say where the application's SCIM service is, and the secret for it.

        Args:
            key: which application.
            base_url: its SCIM service's address.
            token: the bearer token, password or client secret; None keeps the present one.
            auth: {"kind": "basic", "user": ...} or {"kind": "client credentials", "token_url", "client_id", "scope"}; None: a bearer token.
            expires_at: when the secret ends, if that is known.
        """
        body = {"base_url": base_url, "token": token, "auth": auth, "expires_at": expires_at}
        return cast(t.Application, self._call("PUT", f"/applications/{_part(key)}/connection", body=body))

    def check(self, key: str, *, with_test_person: bool = False) -> t.Check:
        """Try the connection step by step; with a test person, if that is asked for, who is removed afterwards."""
        query = {"with_test_person": with_test_person}
        return cast(t.Check, self._call("POST", f"/applications/{_part(key)}/connection/check", query=query))

    def pause(self, key: str) -> t.Application:
        """Stop delivering to an application."""
        return cast(t.Application, self._call("POST", f"/applications/{_part(key)}/pause"))

    def resume(self, key: str) -> t.Application:
        """Go on delivering to an application."""
        return cast(t.Application, self._call("POST", f"/applications/{_part(key)}/resume"))


class Assignments(_Noun):
    """Assignments: a role for a person or a group."""

    def list(
        self, *, application: str | None = None, person: str | None = None, group: str | None = None, direct: bool | None = None
    ) -> Pages[t.Assignment]:
        """List assignments; `person` and `group` by id, `direct` only those to single people."""
        return self._dravo.pages("/assignments", {"application": application, "person": person, "group": group, "direct": direct})

    def get(self, assignment_id: str) -> t.Assignment:
        """Return one assignment."""
        return cast(t.Assignment, self._call("GET", f"/assignments/{_part(assignment_id)}"))

    def add(self, application: str, role: str | None, **whom: Any) -> t.Assignment:
        """Give a role to `person=`, to `group=` of `source=`, to `everybody=True`, to those who meet a `rule=`, or, without a role, to
        the groups of a `source=` whose names fit a `pattern=`.

        Without a role they are let in only; with `excludes=True` they are kept out. Further: `from_=` and `until=` (an instant or a
        day), `newcomers_only=True`, `confirmed=` (ids of groups that may give the highest role by a pattern), `note=`.
        """
        return cast(t.Assignment, self._call("POST", "/assignments", body=_wish(application, role, whom)))

    def preview(self, application: str, role: str | None, **whom: Any) -> t.Preview:
        """Return what `add` would do; nothing is changed."""
        return cast(t.Preview, self._call("POST", "/assignments/preview", body=_wish(application, role, whom)))

    def change(self, assignment_id: str, *, from_: str | None = None, until: str | None = None, note: str | None = None) -> t.Assignment:
        """Replace from when until when it counts, and its note."""
        body = {"from": from_, "until": until, "note": note}
        return cast(t.Assignment, self._call("PUT", f"/assignments/{_part(assignment_id)}", body=body))

    def remove(self, assignment_id: str, confirm: str | None = None) -> None:
        """Take an assignment away; `confirm` is the application's label, where that is grave."""
        self._call("DELETE", f"/assignments/{_part(assignment_id)}", query={"confirm": confirm})

    def confirm(self, assignment_id: str, groups: Sequence[str]) -> t.Assignment:
        """Say which groups, by id, may give the highest role by a pattern; its dates and note stay."""
        now = self.get(assignment_id)
        body = {"from": now["from_day"] or now["from"], "until": now["until_day"] or now["until"], "note": now["note"], "confirmed": [*groups]}
        return cast(t.Assignment, self._call("PUT", f"/assignments/{_part(assignment_id)}", body=body))

    def try_rule(self, rule: str) -> t.Reached:
        """Return whom a rule reaches now; nothing is changed."""
        return cast(t.Reached, self._call("POST", "/rules/try", body={"rule": rule}))

    def preview_removal(self, assignment_id: str) -> t.Preview:
        """Return what `remove` would do; nothing is changed."""
        return cast(t.Preview, self._call("GET", f"/assignments/{_part(assignment_id)}/removal"))


def _wish(application: str, role: str | None, whom: dict[str, Any]) -> dict[str, Any]:
    return {"application": application, "role": role, **{name.rstrip("_"): value for name, value in whom.items()}}


class Accounts(_Noun):
    """Accounts: how people stand in applications."""

    def list(
        self, *, application: str | None = None, person: str | None = None, state: str | None = None, words: str | None = None
    ) -> Pages[t.Account]:
        """List accounts by the person's name."""
        return self._dravo.pages("/accounts", {"application": application, "person": person, "state": state, "q": words})

    def get(self, account_id: str) -> t.AccountDetail:
        """Return one account, with what is due and what was agreed."""
        return cast(t.AccountDetail, self._call("GET", f"/accounts/{_part(account_id)}"))


class Deliveries(_Noun):
    """Deliveries and their attempts."""

    def list(
        self, *, state: str | None = None, application: str | None = None, person: str | None = None, words: str | None = None
    ) -> Pages[t.DeliveryLine]:
        """List deliveries, newest first."""
        return self._dravo.pages("/deliveries", {"state": state, "application": application, "person": person, "q": words})

    def get(self, delivery_id: str) -> t.Delivery:
        """Return one delivery with its attempts."""
        return cast(t.Delivery, self._call("GET", f"/deliveries/{_part(delivery_id)}"))

    def again(self, delivery_id: str) -> t.Delivery:
        """Try a delivery again now."""
        return cast(t.Delivery, self._call("POST", f"/deliveries/{_part(delivery_id)}/again"))

    def kinds(self, application: str | None = None) -> Sequence[t.TroubleKind]:
        """Return what open deliveries failed by, with how many of each kind."""
        return cast(t.TroubleKinds, self._call("GET", "/deliveries/kinds", query={"application": application}))["items"]

    def again_all(self, application: str, kind: str | None = None) -> int:
        """Try all of an application again that failed or are held, of one kind if that is said; return how many."""
        return cast(t.Number, self._call("POST", "/deliveries/again", body={"application": application, "kind": kind}))["number"]

    def found(self, delivery_id: str, found: str, remote_id: str | None = None) -> t.Delivery:
        """Say what was found ("there" with its id, or "not there") where it could not be known whether an account was made."""
        return cast(t.Delivery, self._call("POST", f"/deliveries/{_part(delivery_id)}/found", body={"found": found, "remote_id": remote_id}))


class Operators(_Noun):
    """Operators."""

    def list(self) -> Pages[t.Operator]:
        """List operators."""
        return self._dravo.pages("/operators")

    def add(
        self, name: str, kind: str = "administrator", password: str | None = None, applications: Sequence[str] = (), *, masked: bool = False
    ) -> t.NewOperator:
        """Add an operator; without a password one is made and is in the answer, the only time.

        Args:
            kind: "chief", "administrator", "help desk", "auditor" or "application owner".
            applications: of an application owner, by key.
            masked: for help desk and auditors: people's attributes are not for them.
        """
        body = {"name": name, "kind": kind, "password": password, "applications": [*applications], "masked": masked}
        return cast(t.NewOperator, self._call("POST", "/operators", body=body))

    def disable(self, operator_id: str) -> t.Operator:
        """Shut an operator out."""
        return cast(t.Operator, self._call("POST", f"/operators/{_part(operator_id)}/disable"))


class Tokens(_Noun):
    """One's own API tokens."""

    def list(self) -> Pages[t.ApiToken]:
        """List one's own API tokens, without their texts."""
        return self._dravo.pages("/tokens")

    def add(self, label: str, scope: str = "read", expires_at: str | None = None) -> t.NewApiToken:
        """Make an API token; its text is in the answer, the only time."""
        return cast(t.NewApiToken, self._call("POST", "/tokens", body={"label": label, "scope": scope, "expires_at": expires_at}))

    def revoke(self, token_id: str) -> None:
        """Revoke one of one's own tokens."""
        self._call("DELETE", f"/tokens/{_part(token_id)}")
