"""The data folder is for the user that runs the service alone, and the text in it gives nobody a session."""

from __future__ import annotations

import os
import stat
from pathlib import Path

import pytest
import structlog

from dravo.cli.main import main
from dravo.services.data_folder import FolderNotOwned, secure
from dravo.services.security import operators
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR
from dravo.services.security.rate_limits import RateLimiter
from dravo.store.database import FILE_NAME
from tests.harness import PASSWORD
from tests.service_fixture import ServiceFixture, open_context


def _mode(path: Path) -> int:
    return stat.S_IMODE(path.stat().st_mode)


def test_a_new_data_folder_is_for_its_owner_alone(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    before = os.umask(0o022)
    try:
        with pytest.raises(SystemExit):
            main(["init", "--data", str(tmp_path / "data"), "--operator", "una.kerrigan"])
    finally:
        os.umask(before)
    assert "una.kerrigan" in capsys.readouterr().out
    assert _mode(tmp_path / "data") == 0o700
    assert {
        file.name: oct(_mode(file)) for file in (tmp_path / "data").iterdir() if _mode(file) & 0o077
    } == {}


def test_a_folder_that_others_can_read_is_closed_at_the_start_and_the_log_says_so_once(
    tmp_path: Path,
) -> None:
    open_context(tmp_path / "data").close()
    (tmp_path / "data").chmod(0o755)
    (tmp_path / "data" / FILE_NAME).chmod(0o644)
    with structlog.testing.capture_logs() as lines:
        open_context(tmp_path / "data").close()
        open_context(tmp_path / "data").close()
    assert _mode(tmp_path / "data") == 0o700
    assert _mode(tmp_path / "data" / FILE_NAME) == 0o600
    assert len([line for line in lines if "data folder" in line["event"]]) == 1


def test_a_link_in_the_folder_is_not_followed(tmp_path: Path) -> None:
    open_context(tmp_path / "data").close()
    outside = tmp_path / "outside"
    outside.write_text("for all")
    outside.chmod(0o644)
    (tmp_path / "data" / "link").symlink_to(outside)
    secure(tmp_path / "data")
    assert _mode(outside) == 0o644


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give a folder to somebody else")
def test_a_folder_of_another_user_is_refused(tmp_path: Path) -> None:
    open_context(tmp_path / "data").close()
    os.chown(tmp_path / "data", 12_345, -1)
    with pytest.raises(FolderNotOwned, match="12345"):
        secure(tmp_path / "data")
    os.chown(tmp_path / "data", os.geteuid(), -1)


def test_the_records_hold_neither_a_session_nor_its_csrf_token(services: ServiceFixture) -> None:
    operators.add(services.ctx, operators.SYSTEM, NewOperator("una.kerrigan", SUPER_ADMINISTRATOR), PASSWORD)
    secret, told = operator_sessions.sign_in(
        services.ctx, RateLimiter(9, 9), "una.kerrigan", PASSWORD, "192.0.2.7"
    )
    known = operator_sessions.by_session(services.ctx, secret)
    assert known is not None
    assert known[1] == told.csrf
    services.ctx.database.checkpoint()
    content = (services.ctx.folder / FILE_NAME).read_bytes()
    assert secret.encode() not in content
    assert told.csrf.encode() not in content
