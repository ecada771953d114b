"""Email by SMTP (RFC 5321): messages of checked parts, sent through a server whose address is checked like
all others.
"""

from __future__ import annotations

import contextlib
import email.policy
import re
import smtplib
import socket
import ssl
from dataclasses import dataclass, field
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from typing import Any

from dravo.core.errors import DravoError, InvalidInput
from dravo.protocols.addresses import AddressNotAllowed, Unreachable, resolve
from dravo.protocols.http_client import why_no_tls
from dravo.protocols.trust import trusted

NONE, STARTTLS, TLS = "none", "starttls", "tls"
SECURITIES = (NONE, STARTTLS, TLS)
SECONDS = 20
# Lines end with CR LF (RFC 5321, section 2.3.8). A shorter limit would begin long subjects on a line of their
# own, which some programs show with a blank before it.
LONGEST_LINE = 200
# One at sign, no spaces, and no characters that end a line or start another address. RFC 5321 allows more,
# but such addresses are not in use.
# Seven bits pass through every server (RFC 5321, section 2.3.1).
_AS_SENT = email.policy.SMTP.clone(max_line_length=LONGEST_LINE, cte_type="7bit")
_ADDRESS = re.compile(r"[^\s@<>()\[\]\\,;:\"]{1,64}@[^\s@<>()\[\]\\,;:\"]{1,253}")


class MailTrouble(DravoError):
    """A message could not be handed over.

    Attributes:
        lasting: whether trying again changes nothing.
        unknown: whether the server may have accepted the message, because its reply was lost.
    """

    code = "mail_trouble"
    status = 502

    def __init__(self, message: str, hint: str, *, lasting: bool = False, unknown: bool = False) -> None:
        super().__init__(message, hint)
        self.lasting = lasting
        self.unknown = unknown


@dataclass(frozen=True)
class MailServer:
    """The email server.

    Attributes:
        security: "tls" from the first byte, "starttls", or "none".
        user: "" for a server without login.
        sender: the sender address.
    """

    host: str
    port: int
    security: str
    user: str
    password: str = field(repr=False)
    sender: str


def check_address(text: str, field: str) -> str:
    """Return an email address without blanks around it.

    Raises:
        InvalidInput: if it is none.
    """
    address = text.strip()
    if not _ADDRESS.fullmatch(address) or not address.isascii():
        raise InvalidInput(
            f"'{address[:100]}' is not an email address.",
            "Enter an address such as name@fernhollow.example.",
            field,
        )
    return address


@dataclass(frozen=True)
class Email:
    """An email of plain text.

    Attributes:
        id: stays the same when the message is sent again, so that a mail program shows it once; "" for a new
            one.
    """

    to: str
    subject: str
    text: str = field(repr=False)
    id: str = ""


def compose(sender: str, mail: Email) -> bytes:
    """Return a message of plain text (RFC 5322)."""
    domain = sender.rpartition("@")[2]
    message = EmailMessage(policy=_AS_SENT)
    message["From"], message["To"], message["Subject"] = sender, mail.to, mail.subject
    message["Date"] = formatdate()
    message["Message-ID"] = f"<{mail.id}@{domain}>" if mail.id else make_msgid(domain=domain)
    # Suppresses out-of-office replies (RFC 3834).
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(mail.text)
    return message.as_bytes()


def send(server: MailServer, mail: Email) -> None:
    """Send a message.

    Raises:
        MailTrouble: if the server does not accept it.
    """
    smtp = None
    try:
        smtp = _connect(server)
        with contextlib.closing(smtp):
            if server.security == STARTTLS:
                smtp.starttls(context=trusted())
            if server.user:
                smtp.login(server.user, server.password)
            smtp.sendmail(server.sender, [mail.to], compose(server.sender, mail))
            # The message is accepted, whatever the server says to QUIT.
            with contextlib.suppress(OSError, smtplib.SMTPException):
                smtp.quit()
    except smtplib.SMTPNotSupportedError as wrong:
        raise MailTrouble(
            f"The server does not support the settings: {wrong}.",
            "Choose another value for `security`, or clear the user name.",
        ) from None
    except smtplib.SMTPAuthenticationError as wrong:
        raise MailTrouble(
            f"The server rejected the user name or the password: {_said(wrong)}",
            "Enter the user name and the password again.",
        ) from None
    except smtplib.SMTPRecipientsRefused as wrong:
        code, said = next(iter(wrong.recipients.values()))
        words = f"The server rejected the recipient: {code} {said.decode('utf-8', 'replace')}"
        raise MailTrouble(words, "Check the address.", lasting=500 <= code < 600) from None
    except smtplib.SMTPResponseException as wrong:
        raise MailTrouble(
            f"The server refused: {_said(wrong)}",
            "Check the log of the email server.",
            lasting=500 <= wrong.smtp_code < 600,
        ) from None
    except ssl.SSLCertVerificationError as wrong:
        hint = "Enter the host name from the certificate. This machine must trust the certificate authority."
        raise MailTrouble(f"The server's certificate is not trusted: {wrong.verify_message}.", hint) from None
    except ssl.SSLError as wrong:
        raise MailTrouble(
            f"No TLS: {why_no_tls(wrong)}.", "Set `security` to tls or starttls, depending on the port."
        ) from None
    except AddressNotAllowed as wrong:
        raise MailTrouble(wrong.message, "Enter the address of the email server.", lasting=True) from None
    except (Unreachable, OSError, smtplib.SMTPException) as wrong:
        hint = "Check the host, the port and `security`, and that the server is running."
        raise MailTrouble(
            f"The server '{server.host}' at port {server.port} does not respond: {wrong}.",
            hint,
            unknown=smtp is not None and smtp.began_content,
        ) from None


def _said(wrong: smtplib.SMTPResponseException) -> str:
    said = wrong.smtp_error
    return f"{wrong.smtp_code} {said.decode('utf-8', 'replace') if isinstance(said, bytes) else said}"[:300]


def _connect(server: MailServer) -> _ToChecked | _TlsToChecked:
    # EHLO uses the sender's domain; looking up the name of this machine can take long without a name server.
    ourselves = server.sender.rpartition("@")[2]
    if server.security == TLS:
        return _TlsToChecked(server.host, server.port, ourselves, timeout=SECONDS, context=trusted())
    return _ToChecked(server.host, server.port, ourselves, timeout=SECONDS)


def _socket_to(host: str, port: int, timeout: float) -> socket.socket:
    """Return a connection to the checked address."""
    return socket.create_connection((str(resolve(host, port)), port), timeout)


class _ToChecked(smtplib.SMTP):
    # Whether the content of a message was sent: from then on, a lost reply leaves the outcome unknown.
    began_content = False

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        return _socket_to(host, port, timeout)

    def data(self, msg: Any) -> tuple[int, bytes]:
        self.began_content = True
        return super().data(msg)


class _TlsToChecked(smtplib.SMTP_SSL):
    # Attribute names of the standard library.
    context: ssl.SSLContext
    _host: str
    began_content = False

    def _get_socket(self, host: str, port: int, timeout: float) -> Any:
        return self.context.wrap_socket(_socket_to(host, port, timeout), server_hostname=self._host)

    def data(self, msg: Any) -> tuple[int, bytes]:
        self.began_content = True
        return super().data(msg)
