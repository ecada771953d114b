"""Operators who come in by a source: linked by themselves, never by a name; and nobody is locked out."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotPermitted, NotSignedIn, StillInUse
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services import settings
from dravo.services.security import operator_sso, operators, passwords, second_factor
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.factors import Proof
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import ADMINISTRATOR, Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.second_factor import SecondFactorNeeded
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in.settings import rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.start import StartOptions
from dravo.services.sources import policy as source_policies
from dravo.services.sources import sources
from dravo.store import tables as t
from dravo.store.queries.references import KeyAndLabel
from tests.service_fixture import ServiceFixture
from tests.services.security.test_second_factor import shown
from tests.services.sign_in.test_settings import FIELDS

PASSWORD = "fern-hollow-gate-seven"
BASE = "https://dravo.fernhollow.example"
UNA = VerifiedIdentity("https://id.rootworks.example", "una-7")


class Desk:
    """A super administrator, Una, signed in; and a source that lets operators in."""

    def __init__(self, services: ServiceFixture) -> None:
        self.services, self.ctx, self.limiter = services, services.ctx, RateLimiter(20, 300)
        self.id = operators.add(
            services.ctx, services.caller, NewOperator("una.kerrigan", "super_administrator"), PASSWORD
        ).id
        services.source("staff-id")
        self.una = self.enter()
        self.change(protocol="saml", fields=FIELDS, serves="operators")

    def enter(self, password: str = PASSWORD, code: str = "") -> Caller:
        secret, _ = operator_sessions.sign_in(
            self.ctx, self.limiter, "una.kerrigan", password, "127.0.0.1", Proof(code)
        )
        return self.whose(secret)

    def whose(self, secret: str) -> Caller:
        known = operator_sessions.by_session(self.ctx, secret)
        assert known is not None
        return known[0]

    def change(self, caller: Caller | None = None, **given: Any) -> None:
        sign_in_settings.change(self.ctx, caller or self.una, "staff-id", given)

    def status(self, status: str, caller: Caller | None = None) -> None:
        rollout.set_status(self.ctx, caller or self.una, "staff-id", status, confirm="Staff-Id")

    @property
    def source(self) -> Any:
        return self.services.rows(t.source, key="staff-id")[0]

    def link(self, proved: VerifiedIdentity = UNA, operator: str | None = None) -> None:
        operator_sso.link(self.ctx, operator or self.id, self.source, proved)

    def come(self, proved: VerifiedIdentity = UNA) -> Caller | None:
        row = operator_sso.linked_to(self.ctx, self.source.id, proved)
        return None if row is None else self.whose(operator_sso.enter(self.ctx, self.source, row, proved))

    def alone(self) -> list[str]:
        """Have Una come in by the source alone, with recovery codes."""
        codes = second_factor.renew_codes(self.ctx, self.una, Proof("")).recovery_codes
        self.link()
        self.status("enabled")
        self.come()
        operator_sso.set_only_by_source(self.ctx, self.una, only=True)
        return list(codes)


@pytest.fixture
def desk(services: ServiceFixture) -> Desk:
    return Desk(services)


def test_only_the_linked_operator_signs_in_and_no_namesake(desk: Desk) -> None:
    assert desk.come() is None
    desk.link()
    known = desk.come()
    assert known is not None and (known.name, known.kind) == ("una.kerrigan", "super_administrator")
    # Another subject of the same name, and the same subject of another issuer, are nobody.
    assert (
        desk.come(
            VerifiedIdentity(UNA.issuer, "una.kerrigan", {"email": ["una.kerrigan@fernhollow.example"]})
        )
        is None
    )
    assert desk.come(VerifiedIdentity("https://elsewhere.example", UNA.subject)) is None
    other = operators.add(desk.ctx, desk.una, NewOperator("idris.vance", "administrator"), PASSWORD).id
    with pytest.raises(SignInRefused, match="Another operator is linked"):
        desk.link(operator=other)
    operators.disable(desk.ctx, desk.una, other)
    with pytest.raises(SignInRefused, match="The operator who started this is disabled"):
        desk.link(VerifiedIdentity(UNA.issuer, "idris-1"), operator=other)
    # Anyone who links again means the other identity.
    desk.link(VerifiedIdentity(UNA.issuer, "una-8"))
    assert desk.come() is None and desk.come(VerifiedIdentity(UNA.issuer, "una-8")) is not None


def test_only_super_administrators_change_operator_sign_in(desk: Desk) -> None:
    administrator = Caller("x", "idris.vance", ADMINISTRATOR)
    ctx = desk.ctx
    for change in (
        lambda: desk.change(administrator, fields=FIELDS),
        lambda: desk.change(administrator, policy={"makes": False}),
        lambda: desk.change(administrator, serves="users"),
        lambda: desk.status("pilot", administrator),
        lambda: sign_in_settings.forget(ctx, administrator, "staff-id"),
        lambda: sign_in_settings.change_keys(ctx, administrator, "staff-id", "next"),
        lambda: sign_in_settings.use_waiting_certificates(ctx, administrator, "staff-id"),
        lambda: settings.change(ctx, administrator, "second_factor", True),
    ):
        with pytest.raises(NotPermitted, match=r"operators\.change"):
            change()
    desk.services.source("others")
    with pytest.raises(NotPermitted):
        sign_in_settings.change(ctx, administrator, "others", {"protocol": "saml", "serves": "both"})
    with pytest.raises(InvalidInput, match="' is not a valid value for `serves`"):
        desk.change(serves="super administrators")
    with pytest.raises(InvalidInput, match="Operators cannot sign in with an emailed code"):
        sign_in_settings.change(ctx, desk.una, "others", {"protocol": "email_code", "serves": "operators"})
    with pytest.raises(StillInUse, match="Operators sign in through '"):
        sources.remove(ctx, desk.una, "staff-id")


def test_links_are_forgotten_where_others_may_change_the_provider_from_then_on(desk: Desk) -> None:
    desk.link()
    inside = desk.come()
    desk.change(serves="users")
    assert inside is not None and operator_sessions.by_session(desk.ctx, str(inside.session)) is None
    assert not desk.services.rows(t.operator_link)
    # Nor is one made by anyone who was on the way meanwhile.
    with pytest.raises(SignInRefused, match="This source no longer signs in operators"):
        desk.link()
    desk.change(serves="operators")
    assert desk.come() is None


def test_before_it_is_for_everyone_one_s_own_way_in_is_proved(desk: Desk) -> None:
    with pytest.raises(
        InvalidInput,
        match="You could lock yourself out: you are not linked to this source and have no recovery codes",
    ):
        desk.status("enabled")
    desk.link()
    desk.status("enabled")
    desk.status("disabled")
    operator_sso.unlink(desk.ctx, desk.una, desk.services.rows(t.operator_link)[0].id)
    with pytest.raises(
        InvalidInput,
        match="You could lock yourself out: you are not linked to this source and have no recovery codes",
    ):
        desk.status("enabled")
    second_factor.renew_codes(desk.ctx, desk.una, Proof(""))
    desk.status("enabled")


def test_a_recovery_code_is_used_up_only_by_coming_in(desk: Desk) -> None:
    desk.alone()
    secret = second_factor.begin(desk.ctx, desk.una).secret
    codes = second_factor.confirm(desk.ctx, desk.una, shown(secret)).recovery_codes
    # As the sign-in page does it: asked for the second factor, it sends the same once more with it.
    with pytest.raises(SecondFactorNeeded):
        desk.enter(codes[0])
    with pytest.raises(NotSignedIn, match="The code is wrong"):
        desk.enter(codes[0], "none of them")
    # One code is not both.
    with pytest.raises(NotSignedIn, match="The name or the password is wrong"):
        desk.enter(codes[1], codes[1])
    assert desk.enter(codes[0], shown(secret, 1)).name == "una.kerrigan"
    with pytest.raises(NotSignedIn, match="The name or the password is wrong"):
        desk.enter(codes[0], codes[2])
    # Anyone who has lost the app too takes two of them.
    assert desk.enter(codes[2], codes[3]).name == "una.kerrigan"


def test_by_a_source_alone_needs_a_way_that_worked_and_codes_for_the_day_that_it_does_not(desk: Desk) -> None:
    ctx, una = desk.ctx, desk.una
    only = operator_sso.set_only_by_source
    desk.link()
    desk.status("enabled")
    with pytest.raises(InvalidInput, match="You have not signed in through an enabled source yet"):
        only(ctx, una, only=True)
    desk.come()
    with pytest.raises(InvalidInput, match="no recovery codes"):
        only(ctx, una, only=True)
    codes = second_factor.renew_codes(ctx, una, Proof("")).recovery_codes
    assert only(ctx, una, only=True).only_by_source
    with pytest.raises(NotSignedIn):
        desk.enter()
    # A recovery code in place of the password, once.
    assert desk.enter(codes[0]).name == "una.kerrigan"
    with pytest.raises(NotSignedIn):
        desk.enter(codes[0])
    with pytest.raises(StillInUse, match="You sign in through this source only"):
        operator_sso.unlink(ctx, una, desk.services.rows(t.operator_link)[0].id)
    assert not only(ctx, una, only=False).only_by_source
    assert desk.enter().name == "una.kerrigan"
    with pytest.raises(InvalidInput, match="Your sign-in options can be changed only in the console"):
        only(ctx, Caller(una.operator_id, una.name, una.kind), only=True)


def test_a_deleted_source_locks_no_operator_out(desk: Desk) -> None:
    codes = desk.alone()
    desk.status("disabled")  # there are recovery codes
    desk.status("enabled")
    for each in codes:
        desk.enter(each)
    for away in (
        lambda: desk.status("disabled"),
        lambda: desk.change(serves="users"),
        lambda: sign_in_settings.forget(desk.ctx, desk.una, "staff-id"),
    ):
        with pytest.raises(StillInUse, match="These operators could not sign in any more: una"):
            away()
    # Another super administrator gives a new password; then it may go.
    made = passwords.give_new(desk.ctx, desk.services.caller, desk.id)
    assert desk.enter(made.password).name == "una.kerrigan"
    desk.status("disabled")


def test_the_last_super_administrator_who_gets_in_whatever_happens_stays(desk: Desk) -> None:
    operators.add(desk.ctx, desk.una, NewOperator("honor.blackthorn", "super_administrator"), PASSWORD)
    honor = next(row.id for row in desk.services.rows(t.operator) if row.name == "honor.blackthorn")
    for each in desk.alone():
        desk.enter(each)
    # Una has a source alone, and no codes: a source can fail.
    with pytest.raises(StillInUse, match="last super administrator"):
        operators.disable(desk.ctx, desk.una, honor)
    second_factor.renew_codes(desk.ctx, desk.una, Proof(""))
    operators.disable(desk.ctx, desk.una, honor)


def test_a_link_requires_an_operator_and_a_source_for_operators(desk: Desk) -> None:
    with pytest.raises(SignInRefused, match=" is not enabled yet"):
        sign_in_start.start(desk.ctx, "staff-id", BASE, StartOptions())
    begun = sign_in_start.start(desk.ctx, "staff-id", BASE, StartOptions(operator=desk.una))
    assert begun.url.startswith("https://id.rootworks.example/in")
    desk.change(serves="users")
    with pytest.raises(SignInRefused, match="Operators cannot sign in through "):
        sign_in_start.start(desk.ctx, "staff-id", BASE, StartOptions(operator=desk.una))


def test_on_the_sign_in_page_operators_have_a_button_and_users_are_not_sent_there(desk: Desk) -> None:
    desk.link()
    desk.change(policy={"domains": ["fernhollow.example"], "match": "email"})
    assert sign_in_start.source_for_email(desk.ctx, "").for_operators == []
    desk.status("enabled")
    found = sign_in_start.source_for_email(desk.ctx, "una@fernhollow.example")
    assert (found.source, found.any, found.for_operators) == (
        None,
        False,
        [KeyAndLabel("staff-id", "Staff-Id")],
    )
    desk.change(serves="both")
    assert sign_in_start.source_for_email(desk.ctx, "una@fernhollow.example").source == KeyAndLabel(
        "staff-id", "Staff-Id"
    )


def test_a_required_second_factor_must_be_set_up_at_sign_in(desk: Desk) -> None:
    settings.change(desk.ctx, desk.una, "second_factor", True)
    assert desk.enter().unfinished
    desk.link()
    desk.status("enabled")
    by_source = desk.come()
    assert by_source is not None and not by_source.unfinished
    with pytest.raises(InvalidInput, match="A second factor is required for all operators"):
        second_factor.disable_app(desk.ctx, desk.una, Proof("000000"))


def test_keys_of_a_provider_are_not_linked_by_email(desk: Desk) -> None:
    desk.services.source("register")
    sign_in_settings.change(desk.ctx, desk.una, "register", {"protocol": "email_code"})
    with desk.ctx.database.reading() as connection:
        source, _ = source_policies.sign_in_of(connection, "register")
        assert sign_in_keys.of_source(desk.ctx, connection, source.id) == []


def test_where_one_is_signed_in_is_listed_and_ended_elsewhere(desk: Desk) -> None:
    desk.link()
    desk.status("enabled")
    inside = desk.come()
    assert inside is not None
    found = operator_sessions.sessions(desk.ctx, inside).items
    assert [(each.this, each.source) for each in found] == [
        (True, KeyAndLabel("staff-id", "Staff-Id")),
        (False, None),
    ]
    assert [each.this for each in operator_sessions.end_other_sessions(desk.ctx, inside).items] == [True]
    assert operator_sessions.by_session(desk.ctx, str(desk.una.session)) is None


def test_sign_out_continues_at_the_provider(desk: Desk) -> None:
    desk.change(fields={**FIELDS, "sign_out": "https://id.rootworks.example/out"})
    desk.link()
    desk.status("enabled")
    inside = desk.come()
    assert inside is not None
    assert user_sessions.leave_as_operator(desk.ctx, inside, BASE).startswith(
        "https://id.rootworks.example/out?SAMLRequest="
    )
    assert operator_sessions.by_session(desk.ctx, str(inside.session)) is None
    assert user_sessions.leave_as_operator(desk.ctx, desk.una, BASE) == ""
    assert operator_sessions.by_session(desk.ctx, str(desk.una.session)) is None
