"""Mail goes to a real server: what is promised is sent, again if it has to be, and what cannot be is told
with the hint.
"""

from __future__ import annotations

import ssl
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from dravo.core.errors import InvalidInput
from dravo.core.instants import later, seconds_between
from dravo.protocols.addresses import Unreachable, resolve
from dravo.protocols.http_client import check_url, repair_address
from dravo.protocols.smtp import MailServer, MailTrouble, check_address, compose
from dravo.services.notifications import mail_queue
from dravo.services.notifications.mail_queue import MailSettings
from dravo.store import clock
from dravo.store import tables as t
from tests.harness import Letters, free_port
from tests.saml_provider import key_pair
from tests.service_fixture import ServiceFixture

SENDER = "dravo@fernhollow.example"
TO = "una.kerrigan@fernhollow.example"


def set_server(services: ServiceFixture, port: int, **given: Any) -> MailSettings:
    wish = {"host": "127.0.0.1", "port": port, "security": "none", "sender": SENDER, **given}
    return mail_queue.change(services.ctx, services.caller, wish)


@pytest.fixture
def ready(services: ServiceFixture, letters: Letters) -> ServiceFixture:
    letters.faults()
    set_server(services, letters.smtp_port)
    return services


def write(services: ServiceFixture, to: str = TO, seconds: float = 600) -> None:
    with services.ctx.database.writing() as connection:
        mail_queue.write_letter(
            services.ctx, connection, to, "A subject, ä", "Line one\nLine two ä\n", seconds
        )


def test_a_letter_that_was_promised_is_sent_once(ready: ServiceFixture, letters: Letters) -> None:
    before = len(letters.to(TO))
    write(ready)
    kept = ready.rows(t.outbound_mail)[0]
    assert "Line one" not in kept.content and TO not in kept.content
    assert mail_queue.is_due(ready.ctx, clock.now())
    assert mail_queue.send_due(ready.ctx, clock.now()) == 1
    assert not ready.rows(t.outbound_mail) and not mail_queue.is_due(ready.ctx, clock.now())
    assert mail_queue.send_due(ready.ctx, clock.now()) == 0
    newest = letters.to(TO)[0]
    assert len(letters.to(TO)) == before + 1
    assert (newest["from"], newest["subject"], newest["text"].split()) == (
        SENDER,
        "A subject, ä",
        ["Line", "one", "Line", "two", "ä"],
    )
    assert mail_queue.shown(ready.ctx).sent_at


def test_mail_refused_temporarily_is_retried_and_reported(ready: ServiceFixture, letters: Letters) -> None:
    letters.faults(busy=True)
    write(ready)
    mail_queue.send_due(ready.ctx, clock.now())
    row = ready.rows(t.outbound_mail)[0]
    assert row.tries == 1 and row.next_at > clock.now() and "451 Come back later" in row.trouble
    assert (
        "Come back later" in mail_queue.shown(ready.ctx).trouble and mail_queue.shown(ready.ctx).waiting == 1
    )
    assert mail_queue.send_due(ready.ctx, clock.now()) == 0
    letters.faults()
    assert mail_queue.send_due(ready.ctx, later(clock.now(), 60)) == 1
    found = mail_queue.shown(ready.ctx)
    assert (found.trouble, found.waiting) == ("", 0)


def test_mail_refused_for_good_or_too_late_is_given_up_and_reported(
    ready: ServiceFixture, letters: Letters
) -> None:
    letters.faults(refusing=True)
    write(ready)
    mail_queue.send_due(ready.ctx, clock.now())
    assert not ready.rows(t.outbound_mail) and "550 No such user" in mail_queue.shown(ready.ctx).trouble
    letters.faults()
    write(ready, seconds=-1)
    mail_queue.send_due(ready.ctx, clock.now())
    assert not ready.rows(t.outbound_mail) and "in time" in mail_queue.shown(ready.ctx).trouble


def test_a_test_says_how_it_went(ready: ServiceFixture, letters: Letters) -> None:
    assert mail_queue.test(ready.ctx, ready.caller, f" {TO} ").sent_to == TO
    assert "sent by the command line" in letters.to(TO)[0]["text"]
    letters.faults(refusing=True)
    with pytest.raises(MailTrouble, match="550 No such user"):
        mail_queue.test(ready.ctx, ready.caller, TO)
    set_server(ready, free_port())
    with pytest.raises(MailTrouble, match="does not respond:"):
        mail_queue.test(ready.ctx, ready.caller, TO)
    set_server(ready, letters.smtp_port, security="starttls")
    with pytest.raises(MailTrouble, match="The server does not support the settings:"):
        mail_queue.test(ready.ctx, ready.caller, TO)
    set_server(ready, letters.smtp_port, security="tls")
    with pytest.raises(MailTrouble, match="TLS"):
        mail_queue.test(ready.ctx, ready.caller, TO)
    # An address of the machine's own network is nobody's mail server.
    set_server(ready, 25, host="169.254.169.254")
    with pytest.raises(MailTrouble, match=r"\. Dravo never calls this address\."):
        mail_queue.test(ready.ctx, ready.caller, TO)
    set_server(ready, 25, host="")
    with pytest.raises(InvalidInput, match="No email server"):
        mail_queue.test(ready.ctx, ready.caller, TO)


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"host": "http://mail.fernhollow.example"}, "' is not a valid host name."),
        ({"sender": "nobody"}, "' is not an email address"),
        ({"security": "ssl"}, "' is not a valid value for `security`."),
        ({"user": "dravo"}, "Without TLS, the password would be sent in clear text."),
        ({"sender": "a@b.example\r\nBcc: c@d.example"}, "' is not an email address"),
    ],
)
def test_invalid_settings_are_explained(services: ServiceFixture, given: dict[str, Any], told: str) -> None:
    with pytest.raises(InvalidInput, match=told):
        set_server(services, 25, **given)
    assert mail_queue.shown(services.ctx).host == ""


def test_a_password_is_stored_encrypted_and_sent_to_no_other_host(services: ServiceFixture) -> None:
    shown = set_server(services, 465, security="tls", user="dravo", password="rather-secret")
    assert shown.has_password and "rather-secret" not in str(services.rows(t.setting)) + str(shown) + str(
        services.rows(t.audit)
    )
    assert mail_queue.change(
        services.ctx, services.caller, {"port": 587, "security": "starttls"}
    ).has_password
    assert not mail_queue.change(
        services.ctx, services.caller, {"host": "mail.elsewhere.example"}
    ).has_password


@pytest.mark.parametrize(
    "wrong",
    [
        "",
        "una",
        "una@",
        "@x.example",
        "una kerrigan@x.example",
        "a@b@c.example",
        "una@x.example\nBcc: x@y.example",
        "ü@x.example",
    ],
)
def test_an_address_is_one_address(wrong: str) -> None:
    with pytest.raises(InvalidInput, match="' is not an email address"):
        check_address(wrong, "to")
    assert check_address(f" {TO} ", "to") == TO


def test_no_line_of_a_letter_becomes_a_header() -> None:
    with pytest.raises(ValueError, match="linefeed"):
        compose(SENDER, TO, "Hello\nBcc: x@y.example", "text")
    assert b"Auto-Submitted: auto-generated" in compose(SENDER, TO, "Hello", "text")


@pytest.fixture
def guarded(tmp_path: Path) -> Iterator[int]:
    """A server that speaks only TLS, with a certificate that nobody has signed."""
    key, certificate = key_pair("mail")
    file = tmp_path / "mail.pem"
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

    file.write_text(
        key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode() + certificate.pem
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    port = free_port()
    server = Controller(
        object(),
        hostname="127.0.0.1",
        port=port,
        tls_context=context,
        authenticator=lambda *_: AuthResult(success=False, handled=True),
        auth_require_tls=False,
    )
    server.start()
    yield port
    server.stop()


def test_a_server_without_a_trusted_certificate_gets_no_password(
    services: ServiceFixture, guarded: int
) -> None:
    set_server(services, guarded, security="starttls", user="dravo", password="rather-secret")
    with pytest.raises(MailTrouble, match="certificate is not trusted"):
        mail_queue.test(services.ctx, services.caller, TO)


@pytest.mark.parametrize(
    "host", ["mail..x", ".", "mail.fernhollow.example..", "a" * 64 + ".example", "x." * 130 + "example"]
)
def test_an_invalid_host_name_is_refused_and_never_called(services: ServiceFixture, host: str) -> None:
    with pytest.raises(InvalidInput, match="' is not a valid host name"):
        set_server(services, 25, host=host)
    with pytest.raises(Unreachable, match="the name '"):
        resolve(host, 25)
    for check in (repair_address, lambda address: check_url(address, "token_url")):
        with pytest.raises(InvalidInput):
            check(f"https://{host}/scim/v2")


def test_a_letter_that_breaks_off_keeps_no_other_from_going_and_is_tried_later_and_later(
    ready: ServiceFixture, letters: Letters, monkeypatch: pytest.MonkeyPatch
) -> None:
    send = mail_queue.send

    def broken(server: MailServer, to: str, content: bytes) -> None:
        if to != TO:
            raise UnicodeError("a mistake")
        send(server, to, content)

    monkeypatch.setattr(mail_queue, "send", broken)
    before = len(letters.to(TO))
    write(ready, "zofia.wisniarska@fernhollow.example", seconds=86_400)
    write(ready)
    now, waits = clock.now(), []
    for _ in range(4):
        mail_queue.send_due(ready.ctx, now)
        (row,) = ready.rows(t.outbound_mail)
        waits.append(seconds_between(clock.now(), row.next_at))
        now = later(row.next_at, 1)
    assert len(letters.to(TO)) == before + 1
    assert "The email failed with an internal error. See the service log." in row.trouble and row.tries == 4
    assert waits == sorted(waits) and waits[-1] > 2 * waits[0]
