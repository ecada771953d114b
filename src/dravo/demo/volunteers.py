"""The demo's volunteers, who sign in with an emailed code; new users register, and an operator confirms
them.
"""

from __future__ import annotations

import re
from typing import Any

import httpx
from tenacity import RetryError, Retrying, retry_if_exception_type, stop_after_delay, wait_fixed

from dravo.client import Dravo
from dravo.demo.import_sources import VOLUNTEERS, VOLUNTEERS_LABEL
from dravo.demo.support import client, http

DOMAIN = "volunteers.example"
SENDER = "dravo@fernhollow.example"
INTO = "Asked to help"
WHOM_TO_ASK = "Ask Wren Halliday in Education, extension 131."
CAME = f"benoit@{DOMAIN}"
ANSWER = "Please come to a training day at the desk first."
NEW = (f"maribel.quay@{DOMAIN}", "Maribel", "Quay")


def connect(dravo: Dravo, smtp_port: int) -> None:
    """Configure the stand-in as the email server."""
    if dravo.mail.get()["port"] != smtp_port or not dravo.mail.get()["host"]:
        dravo.mail.change(host="127.0.0.1", port=smtp_port, security="none", sender=SENDER)


def load(dravo: Dravo, url: str, letters: str) -> None:
    """Set the source up as an administrator would, and let a known and a new user sign in.

    Args:
        url: the address of the service.
        letters: the address of the email stand-in.
    """
    settings = {"new_user_group": INTO, "support_contact": WHOM_TO_ASK}
    policy = {"domains": [DOMAIN], "makes": True}
    dravo.sign_ins.change(VOLUNTEERS, protocol="email_code", settings=settings, policy=policy)
    dravo.sign_ins.set_status(VOLUNTEERS, "enabled", confirm=VOLUNTEERS_LABEL)
    with client(url) as browser:
        sign_in_at(browser, letters, CAME)
        request_access(browser)
    for asked in dravo.requests.list(status="open"):
        dravo.requests.refuse(asked["id"], ANSWER)
    with client(url) as browser:
        sign_in_at(browser, letters, NEW[0], *NEW[1:])
        request_access(browser)


def sign_in_at(
    browser: httpx.Client, letters: str, address: str, given: str = "", family: str = ""
) -> dict[str, Any]:
    """Sign in as a user; the session is in the cookies of the browser."""
    asked = browser.post("/api/v1/sign-in/code", json={"email": address}).raise_for_status().json()
    body = {
        "state": asked["state"],
        "code": code_to(letters, address),
        "given_name": given,
        "family_name": family,
    }
    return dict(browser.post("/api/v1/sign-in/code/verify", json=body).raise_for_status().json())


def request_access(browser: httpx.Client) -> None:
    """Request access to an application, as the signed-in user of a browser."""
    csrf = browser.get("/api/v1/me/applications").raise_for_status().json()["csrf"]
    body = {
        "application": "ticket-desk",
        "role": "cashier",
        "reason": "I help at the ticket desk during the spring weekends.",
    }
    browser.post("/api/v1/me/requests", json=body, headers={"X-Dravo-CSRF": csrf}).raise_for_status()


def code_to(letters: str, address: str, seconds: float = 20) -> str:
    """Return the code in the newest message to an address, once it has arrived.

    Raises:
        TimeoutError.
    """

    def newest() -> str:
        for each in http.get(f"{letters}/letters").json():
            if each["to"] == address and (found := re.search(r"\d{4} \d{4}", each["text"])):
                return found.group()
        raise LookupError(address)

    again = retry_if_exception_type(LookupError)
    try:
        return Retrying(stop=stop_after_delay(seconds), wait=wait_fixed(0.1), retry=again)(newest)
    except RetryError:
        raise TimeoutError(f"No email to {address} arrived.") from None
