"""Mail goes to a real server: what is promised is sent, again if it has to be, and what cannot be is told
with the hint.
"""

from __future__ import annotations

import email
import email.policy
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
from dravo.protocols.smtp import Email, MailServer, MailTrouble, check_address, compose
from dravo.services.notifications import mail_server, messages
from dravo.services.notifications.mail_server import MailSettings
from dravo.services.notifications.mail_texts import NOTIFICATION, SIGN_IN_CODE
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.notifications.messages import EMAIL, MessageFilter
from dravo.store.pagination import PageRequest
from tests.harness import Letters, free_port
from tests.saml_provider import key_pair
from tests.service_fixture import ServiceFixture

SENDER = "dravo@fernhollow.example"
TO = "una.kerrigan@fernhollow.example"


def set_server(services: ServiceFixture, port: int, **given: Any) -> MailSettings:
    wish = {"host": "127.0.0.1", "port": port, "security": "none", "sender": SENDER, **given}
    return mail_server.change(services.ctx, services.caller, wish)


@pytest.fixture
def ready(services: ServiceFixture, letters: Letters) -> ServiceFixture:
    letters.faults()
    set_server(services, letters.smtp_port)
    return services


def write(services: ServiceFixture, to: str = TO, seconds: float = 600, kind: str = NOTIFICATION) -> None:
    content = ("A subject, ä", "Line one\nLine two ä\n")
    with services.ctx.database.writing() as connection:
        messages.write_email(services.ctx, connection, kind, to, content, seconds)


def waiting(services: ServiceFixture) -> list[Any]:
    return services.rows(t.message, status="waiting")


def test_a_letter_that_was_promised_is_sent_once(ready: ServiceFixture, letters: Letters) -> None:
    before = len(letters.to(TO))
    write(ready)
    kept = waiting(ready)[0]
    assert "Line one" not in kept.content and TO not in kept.content
    assert messages.is_due(ready.ctx, clock.now(), EMAIL)
    assert messages.send_due(ready.ctx, clock.now(), EMAIL) == 1
    assert not waiting(ready) and not messages.is_due(ready.ctx, clock.now(), EMAIL)
    assert messages.send_due(ready.ctx, clock.now(), EMAIL) == 0
    newest = letters.to(TO)[0]
    assert len(letters.to(TO)) == before + 1
    assert (newest["from"], newest["subject"], newest["text"].split()) == (
        SENDER,
        "A subject, ä",
        ["Line", "one", "Line", "two", "ä", "Sent", "by", "Dravo,"],
    )
    assert newest["id"].startswith(f"<{kept.id}@")
    assert mail_server.shown(ready.ctx).sent_at


def test_mail_refused_temporarily_is_retried_and_reported(ready: ServiceFixture, letters: Letters) -> None:
    letters.faults(busy=True)
    write(ready)
    messages.send_due(ready.ctx, clock.now(), EMAIL)
    row = waiting(ready)[0]
    assert row.tries == 1 and row.next_at > clock.now() and "451 Come back later" in row.trouble
    assert (
        "Come back later" in mail_server.shown(ready.ctx).trouble
        and mail_server.shown(ready.ctx).waiting == 1
    )
    assert messages.send_due(ready.ctx, clock.now(), EMAIL) == 0
    letters.faults()
    assert messages.send_due(ready.ctx, later(clock.now(), 60), EMAIL) == 1
    found = mail_server.shown(ready.ctx)
    assert (found.trouble, found.waiting) == ("", 0)


def test_mail_refused_for_good_or_too_late_is_given_up_and_reported(
    ready: ServiceFixture, letters: Letters
) -> None:
    letters.faults(refusing=True)
    write(ready)
    messages.send_due(ready.ctx, clock.now(), EMAIL)
    assert not waiting(ready) and "550 No such user" in mail_server.shown(ready.ctx).trouble
    letters.faults()
    write(ready, seconds=-1)
    messages.send_due(ready.ctx, clock.now(), EMAIL)
    assert not waiting(ready) and "in time" in mail_server.shown(ready.ctx).trouble


def test_a_test_says_how_it_went(ready: ServiceFixture, letters: Letters) -> None:
    assert mail_server.test(ready.ctx, ready.caller, f" {TO} ").sent_to == TO
    assert "sent by the command line" in letters.to(TO)[0]["text"]
    letters.faults(refusing=True)
    with pytest.raises(MailTrouble, match="550 No such user"):
        mail_server.test(ready.ctx, ready.caller, TO)
    set_server(ready, free_port())
    with pytest.raises(MailTrouble, match="does not respond:"):
        mail_server.test(ready.ctx, ready.caller, TO)
    set_server(ready, letters.smtp_port, security="starttls")
    with pytest.raises(MailTrouble, match="The server does not support the settings:"):
        mail_server.test(ready.ctx, ready.caller, TO)
    set_server(ready, letters.smtp_port, security="tls")
    with pytest.raises(MailTrouble, match="TLS"):
        mail_server.test(ready.ctx, ready.caller, TO)
    # An address of the machine's own network is nobody's mail server.
    set_server(ready, 25, host="169.254.169.254")
    with pytest.raises(MailTrouble, match=r"\. Dravo never calls this address\."):
        mail_server.test(ready.ctx, ready.caller, TO)
    set_server(ready, 25, host="")
    with pytest.raises(InvalidInput, match="No email server"):
        mail_server.test(ready.ctx, ready.caller, TO)


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
    assert mail_server.shown(services.ctx).host == ""


def test_a_password_is_stored_encrypted_and_sent_to_no_other_host(services: ServiceFixture) -> None:
    shown = set_server(services, 465, security="tls", user="dravo", password="rather-secret")
    assert shown.has_password and "rather-secret" not in str(services.rows(t.setting)) + str(shown) + str(
        services.rows(t.audit)
    )
    assert mail_server.change(
        services.ctx, services.caller, {"port": 587, "security": "starttls"}
    ).has_password
    assert not mail_server.change(
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
        compose(SENDER, Email(TO, "Hello\nBcc: x@y.example", "text"))
    assert b"Auto-Submitted: auto-generated" in compose(SENDER, Email(TO, "Hello", "text"))


def test_lines_end_as_smtp_wants_and_a_long_subject_begins_at_once() -> None:
    subject = "Contractors' sign-in: the certificate of the provider expires on 2026-12-26, ä"
    content = compose(SENDER, Email(TO, subject, "Line one\nLine two ä\n"))
    # RFC 5321, section 2.3.8: servers refuse a line feed alone.
    assert b"\n" not in content.replace(b"\r\n", b"") and b"Subject: " in content
    assert content.isascii(), "not every server takes eight bits"
    message = email.message_from_bytes(content, policy=email.policy.default)
    body = message.get_body(("plain",))
    assert message["Subject"] == subject and body is not None
    assert body.get_content().splitlines() == ["Line one", "Line two ä"]


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
        mail_server.test(services.ctx, services.caller, TO)


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
    send = messages.send

    def broken(server: MailServer, mail: Email) -> None:
        if mail.to != TO:
            raise UnicodeError("a mistake")
        send(server, mail)

    monkeypatch.setattr(messages, "send", broken)
    before = len(letters.to(TO))
    write(ready, "zofia.wisniarska@fernhollow.example", seconds=86_400)
    write(ready)
    now, waits = clock.now(), []
    for _ in range(4):
        messages.send_due(ready.ctx, now, EMAIL)
        (row,) = waiting(ready)
        waits.append(seconds_between(clock.now(), row.next_at))
        now = later(row.next_at, 1)
    assert len(letters.to(TO)) == before + 1
    assert "The message failed with an internal error. See the service log." in row.trouble and row.tries == 4
    assert waits == sorted(waits) and waits[-1] > 2 * waits[0]


def test_a_message_whose_reply_is_lost_is_sent_twice_at_most(ready: ServiceFixture, letters: Letters) -> None:
    letters.faults(losing=True)
    before = len(letters.to(TO))
    write(ready, seconds=86_400)
    for _ in range(4):
        messages.send_due(ready.ctx, later(clock.now(), 7_200), EMAIL)
    (row,) = ready.rows(t.message)
    assert (row.status, row.lost) == ("unknown", 2) and "may have arrived" in row.trouble
    arrived = letters.to(TO)[: len(letters.to(TO)) - before]
    # The same ID, so that a mail program shows it once.
    assert len(arrived) == 2 and len({each["id"] for each in arrived}) == 1


def test_a_message_in_hand_when_the_worker_is_killed_is_sent_once_more(
    ready: ServiceFixture, letters: Letters, monkeypatch: pytest.MonkeyPatch
) -> None:
    class Killed(BaseException):
        pass

    def kill(*_: Any) -> None:
        raise Killed

    before = len(letters.to(TO))
    write(ready, seconds=86_400)
    with monkeypatch.context() as patched:
        patched.setattr(messages, "send", kill)
        with pytest.raises(Killed):
            messages.send_due(ready.ctx, clock.now(), EMAIL)
    assert waiting(ready)[0].lost == 1
    assert messages.send_due(ready.ctx, clock.now(), EMAIL) == 1
    assert (ready.rows(t.message)[0].status, len(letters.to(TO))) == ("sent", before + 1)


def test_a_sent_message_is_listed_and_sent_again_unless_it_has_a_code(
    ready: ServiceFixture, letters: Letters
) -> None:
    write(ready)
    write(ready, kind=SIGN_IN_CODE)
    with pytest.raises(InvalidInput, match="not sent yet"):
        messages.send_again(ready.ctx, ready.caller, waiting(ready)[0].id)
    messages.send_due(ready.ctx, clock.now(), EMAIL)
    found = messages.list_messages(ready.ctx, PageRequest(), MessageFilter(status="sent", words="KERRIGAN"))
    assert [(each.kind, each.can_repeat) for each in found.items] == [
        (SIGN_IN_CODE, False),
        (NOTIFICATION, True),
    ]
    with pytest.raises(InvalidInput, match="contained a code"):
        messages.send_again(ready.ctx, ready.caller, found.items[0].id)
    before = len(letters.to(TO))
    again = messages.send_again(ready.ctx, ready.caller, found.items[1].id)
    messages.send_due(ready.ctx, clock.now(), EMAIL)
    assert again.status == "waiting" and len(letters.to(TO)) == before + 1
    with pytest.raises(InvalidInput, match="There is no status"):
        messages.list_messages(ready.ctx, PageRequest(), MessageFilter(status="gone"))
