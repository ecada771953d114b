"""Password checks of applications with a sign-in form of their own."""

from __future__ import annotations

import time

import pytest

from dravo.core.errors import TooManyTries
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.local_users import (
    one_time_passwords,
    own_security,
    password_checks,
)
from dravo.services.local_users.password_checks import CheckRequest, PasswordCheck
from dravo.services.security import factors
from dravo.services.security.rate_limits import RateLimiter
from tests.service_fixture import ServiceFixture
from tests.services.local_users.visitors import (
    BETTER,
    GOOD,
    accepted,
)
from tests.services.security.test_second_factor import shown


def test_an_application_with_a_form_of_its_own_learns_the_roles_or_why_not(
    trust: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    monkeypatch.setattr(time, "time", lambda: now)
    limiter = RateLimiter(20, 60)

    def check(name: str, password: str, code: str = "") -> PasswordCheck:
        return password_checks.check(trust.ctx, limiter, "records", CheckRequest(name, password, code))

    user_id, user = accepted(trust)
    settings.change(trust.ctx, trust.caller, "support_contact", "Extension 120")
    refused = check("ines@fernhollow.example", GOOD)
    assert (refused.outcome, refused.roles) == ("no_access", [])
    assert refused.message == "You have no access to Records." and refused.support_contact == "Extension 120"
    assignments.add(trust.ctx, trust.caller, AssignmentRequest("records", "viewer", user=user_id))
    assignments.add(trust.ctx, trust.caller, AssignmentRequest("records", "curator", user=user_id))
    found = check("ines@fernhollow.example", GOOD)
    assert found.outcome == "signed_in" and found.user is not None and found.user.id == user_id
    assert [each.key for each in found.roles] == ["curator", "viewer"]
    # A wrong password and an unknown name are told alike, and no user is named.
    wrong, unknown = check("ines@fernhollow.example", BETTER), check("nobody@fernhollow.example", GOOD)
    assert wrong == unknown and (wrong.outcome, wrong.user) == ("wrong_password", None)
    owner = own_security.owner_of(trust.ctx, user)
    text = factors.begin(trust.ctx, owner).secret
    factors.confirm(trust.ctx, owner, shown(text))
    assert check("ines@fernhollow.example", GOOD).outcome == "second_factor"
    assert check("ines@fernhollow.example", GOOD, "000000").outcome == "wrong_code"
    assert check("ines@fernhollow.example", GOOD, shown(text, 1)).outcome == "signed_in"
    (given,) = one_time_passwords.create(trust.ctx, trust.caller, [user_id]).items
    factors_gone = own_security.reset_second_factor(trust.ctx, trust.caller, user_id)
    assert not factors_gone.second_factor
    assert check("ines@fernhollow.example", given.password).outcome == "new_password"
    limiter = RateLimiter(2, 60)
    for _ in range(2):
        check("ines@fernhollow.example", BETTER)
    with pytest.raises(TooManyTries):
        check("ines@fernhollow.example", given.password)
