"""Local users by commands and plain HTTP against a running service."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from dravo.client import ApiError, Dravo
from tests.client.test_access_commands import ran
from tests.harness import Letters, Running, eventually

Fresh = Callable[[str], str]
PASSWORD, OTHER = "tulip-Marrow-9-lantern", "seven-Otters-drum-inland"


def secret_to(letters: Letters, address: str, path: str = "invitation") -> str:
    return letters.link(address, path).partition("#")[2]


def post(running: Running, path: str, **body: object) -> httpx.Response:
    return httpx.post(f"{running.url}/api/v1{path}", json=body, trust_env=False, timeout=30)


def test_a_file_is_previewed_invited_listed_sent_again_and_withdrawn(
    mailing: Running, letters: Letters, fresh: Fresh, tmp_path: Path
) -> None:
    group, ida, dario = fresh("Guests"), fresh("ida"), fresh("dario")
    ran(mailing, "group", "create", group)
    file = tmp_path / "guests.csv"
    # As spreadsheets save it: not in UTF-8.
    file.write_bytes(
        f"email;given_name;groups\n{ida}@guests.example;Ida;{group}\nnobody;No;\n"
        f"{dario}@guests.example;Dário;\n".encode("windows-1252")
    )
    seen = ran(mailing, "invitation", "create", "--csv", str(file), "--preview")
    assert "2 users would be invited" in seen and "line 3: 'nobody' is not an email address." in seen
    assert letters.to(f"{ida}@guests.example") == []
    made = ran(mailing, "invitation", "create", "--csv", str(file), "--expect", "2")
    assert "Invited 2 users." in made and "1 line is rejected" in made
    assert "Dário" in ran(mailing, "user", "list", dario, "--status", "pending")
    listed = json.loads(ran(mailing, "invitation", "list", ida, "--status", "open", "--json"))
    (line,) = listed["items"] if isinstance(listed, dict) else listed
    assert line["email"] == f"{ida}@guests.example" and line["status"] == "open"
    assert "pending" in ran(mailing, "user", "list", ida, "--status", "pending")
    first = secret_to(letters, line["email"])
    assert "Sent again" in ran(mailing, "invitation", "resend", line["id"])
    eventually(lambda: len(letters.to(line["email"])) == 2)
    assert post(mailing, "/invitation/open", secret=first).status_code == 404
    assert "open" in ran(mailing, "user", "sign-in", line["email"])
    assert "is deleted" in ran(mailing, "invitation", "withdraw", line["id"])
    assert "withdrawn already" in ran(mailing, "invitation", "withdraw", line["id"], code=2)
    misspelled = ("invitation", "create", f"x{ida}@guests.example", "--group", f"{group}s")
    assert f"Did you mean '{group}'?" in ran(mailing, *misspelled, code=2)


def test_an_invited_user_accepts_and_signs_in_by_plain_http(
    mailing: Running, letters: Letters, fresh: Fresh
) -> None:
    address, desk = f"{fresh('zora')}@guests.example", fresh("desk")
    mailing.application(desk)
    with mailing.dravo as dravo:
        dravo.invitations.create([{"email": address}], application=desk, role="viewer")
    secret = secret_to(letters, address)
    opened = post(mailing, "/invitation/open", secret=secret).json()
    assert (opened["user_name"], opened["sources"]) == (address, [])
    weak = post(mailing, "/invitation/accept", secret=secret, password="qwertyuiop12")
    assert weak.status_code == 422 and weak.json()["error"]["code"] == "weak_password"
    accepted = post(mailing, "/invitation/accept", secret=secret, password=PASSWORD)
    assert accepted.json() == {"go_to": "/your-applications"}
    cookies = {"dravo_user_session": accepted.cookies["dravo_user_session"]}
    mine = httpx.get(f"{mailing.url}/api/v1/me/applications", cookies=cookies, trust_env=False).json()
    assert mine["has_password"] and [each["key"] for each in mine["applications"]] == [desk]
    # Without the CSRF token of the session nothing of it changes.
    forged = httpx.put(
        f"{mailing.url}/api/v1/me/password",
        json={"present": PASSWORD, "password": OTHER},
        cookies=cookies,
        trust_env=False,
    )
    assert forged.status_code == 403
    found = httpx.get(
        f"{mailing.url}/api/v1/sign-in", params={"email": address}, trust_env=False, timeout=30
    ).json()
    assert found["by_password"]
    came = post(mailing, "/sign-in/password", name=address, password=PASSWORD)
    assert came.json()["outcome"] == "signed_in" and "session" not in came.json()
    wrong = [
        post(mailing, "/sign-in/password", name=name, password=OTHER).json()["error"]
        for name in (address, f"nobody-{address}")
    ]
    assert wrong[0] == wrong[1]
    answers = [
        post(mailing, "/sign-in/password/forgotten", email=email).status_code
        for email in (f"nobody-{address}", address)
    ]
    assert answers == [204, 204]
    reset = secret_to(letters, address, "new-password")
    assert post(mailing, "/sign-in/password/reset", secret=reset, password=OTHER).status_code == 204
    assert post(mailing, "/sign-in/password", name=address, password=OTHER).json()["outcome"] == "signed_in"
    # An application with its own form has a token for this alone.
    with mailing.dravo as dravo:
        token = dravo.tokens.add("Sign-in form", "write", permissions=["passwords.check"])["token"]
    with Dravo(mailing.url, token) as form:
        found = form.applications.check_password(desk, address, OTHER)
        assert (found["outcome"], [each["key"] for each in found["roles"]]) == ("signed_in", ["viewer"])
        assert form.applications.check_password(desk, address, PASSWORD)["outcome"] == "wrong_password"
        with pytest.raises(ApiError, match="permission"):
            form.users.get(address)


def test_one_time_passwords_are_printed_once_and_users_deleted(running: Running, fresh: Fresh) -> None:
    name, other = fresh("kiosk"), fresh("kiosk")
    with running.dravo as dravo:
        for each in (name, other):
            dravo.users.add(each, given_name="Kiosk")
    printed = ran(running, "user", "one-time-passwords", name)
    password = re.findall(r"[0-9a-f]{4}(?:-[0-9a-f]{4}){3}", printed)[0]
    assert "does not show them again" in printed
    came = post(running, "/sign-in/password", name=name, password=password)
    assert came.json()["outcome"] == "new_password" and "dravo_user_session" not in came.cookies
    assert "one-time" in ran(running, "user", "sign-in", name)
    assert "no" in ran(running, "user", "reset-second-factor", name)
    assert "2 unchanged" in ran(running, "user", "delete", name, other, "--preview")
    assert "Deleted 2 users." in ran(running, "user", "delete", name, other)
    assert post(running, "/sign-in/password", name=name, password=password).status_code == 401
