"""Operators are changed, disabled and enabled, and own applications."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, NotPermitted, StillInUse
from dravo.services.applications import applications
from dravo.services.security import api_tokens, operators
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.operator_kinds import MASKED, NewOperator, OperatorEdit
from dravo.services.security.permissions import (
    ADMINISTRATOR,
    AUDITOR,
    HELP_DESK,
    OWNER,
    SUPER_ADMINISTRATOR,
    Caller,
)
from dravo.services.security.rate_limits import RateLimiter
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture

PASSWORD = "a-long-enough-one"


def create(services: ServiceFixture, name: str, kind: str = ADMINISTRATOR, **more: Any) -> str:
    return operators.add(services.ctx, services.caller, NewOperator(name, kind, **more), PASSWORD).id


def change(services: ServiceFixture, operator_id: str, **edit: Any) -> operators.OperatorLine:
    return operators.change(services.ctx, services.caller, operator_id, OperatorEdit(**edit))


def enter(services: ServiceFixture, name: str) -> str:
    return operator_sessions.sign_in(services.ctx, RateLimiter(9, 60), name, PASSWORD, "local")[0]


def caller_of(services: ServiceFixture, session: str) -> Caller:
    found = operator_sessions.by_session(services.ctx, session)
    assert found is not None
    return found[0]


def test_an_operator_is_renamed_and_gets_an_address(services: ServiceFixture) -> None:
    ola = create(services, "ola.fashanu")
    create(services, "priya")
    changed = change(services, ola, name="Ola.F", email=" ola@fernhollow.example ")
    assert (changed.name, changed.email, changed.kind) == ("Ola.F", "ola@fernhollow.example", ADMINISTRATOR)
    assert enter(services, "OLA.f")
    with pytest.raises(AlreadyExists, match="'PRIYA' exists already"):
        change(services, ola, name="PRIYA")
    with pytest.raises(InvalidInput, match="'ola' is not an email address"):
        change(services, ola, email="ola")
    assert change(services, ola, email="").email is None
    (entry, *_) = [row for row in services.rows(t.audit) if row.action == "changed operator"]
    assert entry.details["before"] == {"name": "ola.fashanu", "email": None}


def test_another_kind_counts_at_once_for_sessions_and_tokens(services: ServiceFixture) -> None:
    ola = create(services, "ola")
    session = enter(services, "ola")
    token = api_tokens.create(services.ctx, caller_of(services, session), "Nightly", "write").token
    change(services, ola, kind=AUDITOR, masked=True, hidden_areas=["audit", "requests"])
    by_token = api_tokens.by_text(services.ctx, token)
    assert by_token is not None
    for who in (caller_of(services, session), by_token):
        assert "users.read" in who.permissions and "sign_ins.read" in who.permissions
        assert not who.permissions & {"users.change", "attributes.read", "audit.read", "requests.read"}
        with pytest.raises(NotPermitted, match="This area is hidden from you"):
            who.require("audit.read")


def test_a_new_kind_clears_what_it_has_no_use_for(services: ServiceFixture) -> None:
    services.application("records")
    masks = dict.fromkeys(MASKED, True)
    gale = create(services, "gale", HELP_DESK, **masks, hidden_areas=["sign_ins"])
    assert change(services, gale, name="gale.reed").masked_names
    changed = change(services, gale, kind=ADMINISTRATOR)
    assert not any(getattr(changed, name) for name in MASKED) and changed.hidden_areas == []
    assert change(services, gale, kind=OWNER, applications=["records"]).applications == ["records"]
    assert change(services, gale, email="gale@fernhollow.example").applications == ["records"]
    assert change(services, gale, kind=HELP_DESK).applications == []
    with pytest.raises(InvalidInput, match="Only an application owner has applications"):
        change(services, gale, applications=["records"])
    for name, what in MASKED.items():
        with pytest.raises(InvalidInput, match=f"{what} cannot be masked"):
            change(services, gale, kind=ADMINISTRATOR, **{name: True})


def test_the_last_super_administrator_keeps_the_kind(services: ServiceFixture) -> None:
    first = create(services, "first", SUPER_ADMINISTRATOR)
    with pytest.raises(StillInUse, match="last super administrator"):
        change(services, first, kind=ADMINISTRATOR)
    second = create(services, "second", SUPER_ADMINISTRATOR)
    assert change(services, first, kind=ADMINISTRATOR).kind == ADMINISTRATOR
    with pytest.raises(StillInUse, match="last super administrator"):
        operators.disable(services.ctx, services.caller, second)


def test_an_enabled_operator_signs_in_again_with_tokens_but_without_old_sessions(
    services: ServiceFixture,
) -> None:
    ola = create(services, "ola")
    session = enter(services, "ola")
    token = api_tokens.create(services.ctx, caller_of(services, session), "Nightly", "read").token
    operators.disable(services.ctx, services.caller, ola)
    assert api_tokens.by_text(services.ctx, token) is None
    assert operators.enable(services.ctx, services.caller, ola).disabled_at is None
    assert operator_sessions.by_session(services.ctx, session) is None
    assert enter(services, "ola") and api_tokens.by_text(services.ctx, token) is not None
    operators.enable(services.ctx, services.caller, ola)
    assert [row.action for row in services.rows(t.audit)].count("enabled operator") == 1


# Owners of applications


def own(services: ServiceFixture, caller: Caller, owner: str, key: str = "records") -> str | None:
    return applications.change(services.ctx, caller, key, {"owner": owner}, {}).owner


def test_the_owner_of_an_application_may_change_its_assignments(services: ServiceFixture) -> None:
    services.application("records")
    services.application("desk")
    leo = create(services, "leo", OWNER)
    session = enter(services, "leo")
    assert caller_of(services, session).applications == frozenset()
    assert own(services, services.caller, "LEO") == "leo"
    assert caller_of(services, session).applications == {"records"}
    change(services, leo, applications=["desk"])
    assert caller_of(services, session).applications == {"records", "desk"}
    line = operators.one(services.ctx, leo)
    assert (line.applications, line.owner_of) == (["desk", "records"], ["records"])
    with pytest.raises(StillInUse, match="leo is the owner of records"):
        change(services, leo, kind=AUDITOR)
    assert own(services, services.caller, "") is None
    assert caller_of(services, session).applications == {"desk"}


def test_only_operators_of_a_fitting_kind_own_applications(services: ServiceFixture) -> None:
    services.application("records")
    create(services, "audrey", AUDITOR)
    gone = create(services, "gone")
    operators.disable(services.ctx, services.caller, gone)
    for name, error, words in (
        ("nobody", NotFound, "There is no operator 'nobody'"),
        ("audrey", InvalidInput, "has the kind auditor, which cannot own"),
        ("gone", InvalidInput, "is disabled"),
    ):
        with pytest.raises(error, match=words) as wrong:
            own(services, services.caller, name)
        assert wrong.value.hint and wrong.value.field == "owner"


def test_choosing_an_owner_needs_the_right_to_change_operators(services: ServiceFixture) -> None:
    services.application("records")
    create(services, "leo", OWNER)
    administrator = Caller(create(services, "adam"), "adam", ADMINISTRATOR)
    with pytest.raises(NotPermitted, match=r"operators\.change"):
        own(services, administrator, "leo")
    with pytest.raises(NotPermitted, match=r"operators\.change"):
        applications.add(services.ctx, administrator, "desk", "Desk", "leo", tracked_only=False)
    assert not services.rows(t.application, key="desk")
    own(services, services.caller, "leo")
    # An edit that sends the same owner again changes nothing about operators.
    assert own(services, administrator, "leo") == "leo"
    with pytest.raises(NotPermitted, match=r"operators\.change"):
        own(services, administrator, "")
