"""API tokens: none has more rights or lives longer than what it comes from, and super administrators end
them all.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from dravo.cli.main import main
from dravo.core.errors import InvalidInput, NotFound, NotPermitted
from dravo.core.instants import Instant, later
from dravo.services import settings
from dravo.services.security import api_tokens, operators, passwords, second_factor
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.pagination import PageRequest
from dravo.web.app import create_app
from tests.harness import PASSWORD
from tests.service_fixture import ServiceFixture
from tests.services.security.test_second_factor import Desk, shown

WANTED = "herbarium-cupboard-nine"


@pytest.fixture
def desk(services: ServiceFixture) -> Desk:
    return Desk(services)


def _used(desk: Desk, text: str) -> Caller:
    found = api_tokens.by_text(desk.ctx, text)
    assert found is not None
    return found


def test_a_token_ends_with_the_one_that_created_it(desk: Desk) -> None:
    una = desk.enter()
    ends = Instant(later(clock.now(), 3_600))
    parent = api_tokens.create(desk.ctx, una, "Pipeline", "write", ends)
    with pytest.raises(InvalidInput, match="The token that you use expires at"):
        api_tokens.create(desk.ctx, _used(desk, parent.token), "Child", "write", Instant(later(ends, 1)))
    child = api_tokens.create(desk.ctx, _used(desk, parent.token), "Child", "write")
    assert child.expires_at == ends
    grandchild = api_tokens.create(desk.ctx, _used(desk, child.token), "Grandchild", "read")
    api_tokens.revoke(desk.ctx, una, parent.id)
    for text in (parent.token, child.token, grandchild.token):
        assert api_tokens.by_text(desk.ctx, text) is None


def test_a_token_is_limited_to_permissions_and_what_it_creates_is_too(desk: Desk) -> None:
    una = desk.enter()
    made = api_tokens.create(desk.ctx, una, "Report", "write", permissions=["users.read", "own.change"])
    limited = _used(desk, made.token)
    assert limited.permissions == {"users.read", "own.change"}
    with pytest.raises(NotPermitted, match="with a token that is limited to other permissions"):
        limited.require("sources.read")
    child = api_tokens.create(desk.ctx, limited, "Child", "write")
    assert child.permissions == ["own.change", "users.read"]
    with pytest.raises(InvalidInput, match="do not have the permission"):
        api_tokens.create(desk.ctx, limited, "More", "write", permissions=["sources.read"])
    for wrong, scope in ((["users.fly"], "write"), ([], "write"), (["users.change"], "read")):
        with pytest.raises(InvalidInput):
            api_tokens.create(desk.ctx, una, "Wrong", scope, permissions=wrong)


def test_a_super_administrator_sees_and_revokes_the_tokens_of_all(desk: Desk) -> None:
    una = desk.enter()
    made = operators.add(desk.ctx, operators.SYSTEM, NewOperator("dilys.prosser", "administrator"), PASSWORD)
    dilys = Caller(made.id, "dilys.prosser", "administrator")
    hers, own = (
        api_tokens.create(desk.ctx, dilys, "Hers", "read"),
        api_tokens.create(desk.ctx, una, "Own", "read"),
    )
    listed = api_tokens.tokens(desk.ctx, una, PageRequest(), of_all=True).items
    assert {(each.operator.name, each.label) for each in listed} == {
        ("dilys.prosser", "Hers"),
        ("una.kerrigan", "Own"),
    }
    with pytest.raises(NotPermitted):
        api_tokens.tokens(desk.ctx, dilys, PageRequest(), of_all=True)
    with pytest.raises(NotFound):
        api_tokens.revoke(desk.ctx, dilys, own.id)
    api_tokens.revoke(desk.ctx, una, hers.id)
    assert api_tokens.by_text(desk.ctx, hers.token) is None
    assert api_tokens.by_text(desk.ctx, own.token) is not None


def test_a_new_password_by_a_super_administrator_revokes_tokens_and_one_s_own_offers_it(desk: Desk) -> None:
    una = desk.enter()
    kept = api_tokens.create(desk.ctx, una, "Kept", "write").token
    passwords.change_own(desk.ctx, una, desk.limiter, PASSWORD, WANTED)
    assert api_tokens.by_text(desk.ctx, kept) is not None
    passwords.change_own(desk.ctx, una, desk.limiter, WANTED, PASSWORD, revoke_tokens=True)
    assert api_tokens.by_text(desk.ctx, kept) is None
    made = api_tokens.create(desk.ctx, una, "Again", "write").token
    passwords.give_new(desk.ctx, operators.SYSTEM, una.operator_id)
    assert api_tokens.by_text(desk.ctx, made) is None


def test_the_token_of_an_operator_without_the_required_second_factor_is_refused_until_it_is_set_up(
    desk: Desk,
) -> None:
    text = api_tokens.create(desk.ctx, desk.enter(), "Nightly", "write").token
    http = create_app(desk.ctx, "http://127.0.0.1:1").test_client()
    headers = {"Authorization": f"Bearer {text}"}
    assert http.get("/api/v1/users", headers=headers).status_code == 200
    settings.change(desk.ctx, operators.SYSTEM, "second_factor", True)
    refused = http.get("/api/v1/users", headers=headers)
    assert (refused.status_code, refused.json["error"]["code"]) == (403, "second_factor_missing")
    una = desk.enter()
    second_factor.confirm(desk.ctx, una, shown(second_factor.begin(desk.ctx, una).secret))
    assert http.get("/api/v1/users", headers=headers).status_code == 200


def _init(folder: Path, operator: str) -> None:
    with pytest.raises(SystemExit) as ended:
        main(["init", "--data", str(folder), "--operator", operator])
    assert not ended.value.code


def test_a_new_installation_requires_a_second_factor_and_init_says_so(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    _init(tmp_path / "new", "honor.blackthorn")
    assert "second factor" in capsys.readouterr().out
    made = ServiceFixture(tmp_path / "new")
    assert settings.get(made.ctx)["second_factor"] == 1
    # An operator who is added later, such as after a lockout, changes no setting.
    settings.change(made.ctx, operators.SYSTEM, "second_factor", False)
    made.ctx.close()
    _init(tmp_path / "new", "una.kerrigan")
    made = ServiceFixture(tmp_path / "new")
    assert settings.get(made.ctx)["second_factor"] == 0
    made.ctx.close()
