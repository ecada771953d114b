"""Codes by mail: users who match the address is known by it under the rules of binding; nobody else learns
or gets anything.
"""

from __future__ import annotations

import re
from typing import Any

import orjson
import pytest

from dravo.core.errors import InvalidInput, NotFound, TooManyTries
from dravo.services.ingest.local import users as local_users
from dravo.services.notifications import mail_server
from dravo.services.security import operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import email_codes, test_sign_ins
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in.email_codes import Asked, CodeRequest, EnteredCode, NamesNeeded
from dravo.services.sign_in.responses import SignInResult
from dravo.services.sign_in.settings import rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.start import StartOptions
from dravo.services.sign_in.test_sign_ins import NewTestSignIn
from dravo.services.sources import sources
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture

BASE = "https://dravo.fernhollow.example"
GALE = "gale.harrow@volunteers.example"


class Post:
    """A source of volunteers who sign in by codes; letters are read where they wait to be sent."""

    def __init__(self, services: ServiceFixture) -> None:
        self.services, self.ctx, self.limiter = services, services.ctx, RateLimiter(50, 900)
        mail_server.change(
            services.ctx,
            services.caller,
            {"host": "mail.fernhollow.example", "sender": "dravo@fernhollow.example"},
        )
        services.source("volunteers")
        self.change(protocol="email_code", policy={"domains": ["volunteers.example"]})
        self.status("enabled")

    def change(self, **given: Any) -> None:
        sign_in_settings.change(self.ctx, self.services.caller, "volunteers", given)

    def status(self, status: str) -> None:
        rollout.set_status(self.ctx, self.services.caller, "volunteers", status, confirm="Volunteers")

    def ask(
        self,
        email: str = GALE,
        browser: str | None = None,
        sign_in_test: str | None = None,
        network: str = "192.0.2.7",
    ) -> Asked:
        wanted = CodeRequest(email, network, browser, sign_in_test)
        return email_codes.ask(self.ctx, self.limiter, BASE, wanted)

    def letters(self) -> list[tuple[str, str, str]]:
        return [
            tuple(orjson.loads(self.ctx.keys.decrypt(row.content)))
            for row in self.services.rows(t.message, channel="email")
        ]

    def code(self) -> str:
        return re.findall(r"\d{4} \d{4}", self.letters()[-1][2])[0]

    def give(
        self,
        asked: Asked,
        code: str | None = None,
        browser: str | None = None,
        names: tuple[str, str] = ("", ""),
    ) -> SignInResult:
        entered = self.code() if code is None else code
        return email_codes.verify(
            self.ctx, BASE, EnteredCode(asked.state, entered, browser or asked.browser, *names)
        )

    def known(self, email: str = GALE, name: str = "v.gale.harrow") -> str:
        """Have the register push somebody, and return their user id."""
        sources_id = self.services.rows(t.source, key="volunteers")[0].id
        self.services.user(
            sources_id, name, displayName="Gale Harrow", emails=[{"value": email, "type": "work"}]
        )
        return str(self.services.rows(t.user, user_name=name)[0].id)


@pytest.fixture
def post(services: ServiceFixture) -> Post:
    return Post(services)


def test_a_user_known_by_email_signs_in(post: Post) -> None:
    user = post.known()
    asked = post.ask(" Gale.Harrow@Volunteers.Example ")
    assert post.letters()[0][0] == GALE and "10 minutes" in post.letters()[0][2]
    came = post.give(asked)
    assert came.outcome == "signed_in" and came.back == "/your-applications"
    visitor = user_sessions.by_secret(post.ctx, came.user_session)
    assert visitor is not None and visitor.user_id == user
    # What the register says of them stays: the address is no user name.
    assert user_sessions.mine(post.ctx, visitor).user_name == "v.gale.harrow"
    # A second time they are bound by the address itself.
    assert (
        post.give(post.ask()).outcome == "signed_in" and len(post.services.rows(t.record, user_id=user)) == 2
    )


def test_the_answer_hides_whether_an_address_is_known(post: Post) -> None:
    post.known()
    known, unknown = post.ask(), post.ask("nobody@volunteers.example")
    assert (known.source, known.minutes) == (unknown.source, unknown.minutes)
    assert [to for to, _, _ in post.letters()] == [GALE]
    with pytest.raises(InvalidInput, match="The code is wrong") as wrong:
        post.give(unknown, "0000 0000")
    with pytest.raises(InvalidInput) as other:
        post.give(known, "0000 0000")
    assert str(wrong.value) == str(other.value)
    with pytest.raises(NotFound, match="Sign-in with a code is not available for your email address"):
        post.ask("una@fernhollow.example")
    with pytest.raises(InvalidInput, match="' is not an email address"):
        post.ask("una")


def test_a_code_counts_once_in_its_browser_for_some_tries(post: Post) -> None:
    post.known()
    asked = post.ask()
    code = post.code()
    with pytest.raises(NotFound, match="Request a new code and enter it in the same browser"):
        post.give(asked, code, browser="another")
    assert post.give(asked, code).outcome == "signed_in"
    with pytest.raises(NotFound, match="The code has expired or belongs to another browser"):
        post.give(asked, code)
    asked = post.ask()
    code = post.code()
    for left in (4, 3, 2, 1):
        with pytest.raises(InvalidInput, match="The code is wrong") as told:
            post.give(asked, "1234 5678" if code != "1234 5678" else "8765 4321")
        assert f"left: {left}" in told.value.hint
    with pytest.raises(InvalidInput):
        post.give(asked, "")
    with pytest.raises(NotFound):
        post.give(asked, code)


def test_too_many_letters_to_one_address_are_not_written(post: Post) -> None:
    post.limiter = RateLimiter(2, 900)
    post.known()
    post.ask()
    post.ask()
    with pytest.raises(TooManyTries):
        post.ask()
    assert len(post.letters()) == 2
    # What others ask for keeps nobody from signing in.
    assert post.give(post.ask(network="192.0.2.8")).outcome == "signed_in"


def test_a_new_user_enters_a_name_and_joins_the_group(post: Post) -> None:
    post.change(policy={"makes": True}, settings={"new_user_group": "Asked to help"})
    asked = post.ask("maribel.quay@volunteers.example")
    with pytest.raises(NamesNeeded):
        post.give(asked)
    came = post.give(asked, names=("Maribel", " Quay "))
    assert came.outcome == "signed_in"
    user = post.services.rows(t.user, user_name="maribel.quay@volunteers.example")[0]
    group = post.services.rows(t.group, display_name="Asked to help")[0]
    assert user.display_name == "Maribel Quay"
    # Later they need not say it again, and stay in the group.
    assert post.give(post.ask("maribel.quay@volunteers.example")).outcome == "signed_in"
    assert post.services.rows(t.user, id=user.id)[0].display_name == "Maribel Quay"
    record = post.services.rows(t.record, user_id=user.id)[0]
    assert [
        row.until_at for row in post.services.rows(t.membership, group_id=group.id, record_id=record.id)
    ] == [None]


def test_a_known_user_is_neither_registered_nor_added_to_a_group(post: Post) -> None:
    post.change(policy={"makes": True}, settings={"new_user_group": "Asked to help"})
    user = post.known()
    assert post.give(post.ask(), names=("Somebody", "Else")).outcome == "signed_in"
    assert post.services.rows(t.user, id=user)[0].display_name == "Gale Harrow" and not post.services.rows(
        t.group
    )


def test_ambiguous_operator_and_leaver_addresses_are_refused(post: Post) -> None:
    post.known()
    post.known(name="v.gale.two")
    came = post.give(post.ask())
    assert came.outcome == "refused" and came.message == "An administrator must confirm your account first."
    operators.add(
        post.ctx, post.services.caller, NewOperator("manager@volunteers.example", "super_administrator")
    )
    local_users.add(
        post.ctx,
        post.services.caller,
        {"user_name": "manager@volunteers.example", "email": "manager@volunteers.example", "given_name": "C"},
    )
    assert post.give(post.ask("manager@volunteers.example")).outcome == "refused"
    assert {row.kind for row in post.services.rows(t.conflict)} == {"operator", "email_known"}
    assert not post.services.rows(t.user_session)


def test_an_inactive_user_is_refused(post: Post) -> None:
    user = post.known()
    post.give(post.ask())
    record = post.services.rows(t.record, user_id=user, connection_type="inbound_scim")[0]
    post.services.patch_user(record.source_id, record.id, {"op": "replace", "path": "active", "value": False})
    came = post.give(post.ask())
    assert (came.outcome, came.message) == ("refused", "Your account is not active.")


def test_a_test_sign_in_by_code_changes_nothing_and_serves_one_user(post: Post) -> None:
    user = post.known()
    post.status("disabled")
    with pytest.raises(NotFound):
        post.ask()
    secret = test_sign_ins.begin(
        post.ctx, post.services.caller, "volunteers", NewTestSignIn(GALE, "observe"), BASE
    ).link.partition("sign_in_test=")[2]
    assert (
        sign_in_start.start(post.ctx, "volunteers", BASE, StartOptions(secret)).url
        == f"{BASE}/sign-in?by=volunteers&sign_in_test={secret}"
    )
    assert post.give(post.ask(sign_in_test=secret)).outcome == "observed"
    assert len(post.services.rows(t.record, user_id=user)) == 1 and not post.services.rows(t.user_session)
    post.known("other@volunteers.example", "v.other")
    assert (
        post.give(post.ask("other@volunteers.example", sign_in_test=secret)).message
        == "This link is for another user."
    )


def test_missing_settings_prevent_enabling(services: ServiceFixture) -> None:
    services.source("volunteers")
    sign_in_settings.change(
        services.ctx,
        services.caller,
        "volunteers",
        {"protocol": "email_code", "policy": {"makes": True, "match": "ask"}},
    )
    with pytest.raises(InvalidInput, match="Missing: the email server"):
        rollout.set_status(services.ctx, services.caller, "volunteers", "enabled", confirm="Volunteers")
    sources.remove(services.ctx, services.caller, "volunteers")


def test_of_two_sources_with_codes_for_one_domain_the_chosen_one_sends_it(post: Post) -> None:
    post.services.source("helpers")
    sign_in_settings.change(
        post.ctx,
        post.services.caller,
        "helpers",
        {"protocol": "email_code", "policy": {"domains": ["volunteers.example"]}},
    )
    rollout.set_status(post.ctx, post.services.caller, "helpers", "enabled", confirm="Helpers")
    with pytest.raises(NotFound):
        post.ask()
    chosen = email_codes.ask(post.ctx, post.limiter, BASE, CodeRequest(GALE, "192.0.2.7", source="helpers"))
    assert chosen.source == "Helpers"
    with pytest.raises(NotFound):
        email_codes.ask(post.ctx, post.limiter, BASE, CodeRequest(GALE, "192.0.2.7", source="staff"))
