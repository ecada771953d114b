"""Connections to an LDAP server: TLS, bind and paged searches."""

from __future__ import annotations

import contextlib
import socket
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import ldap
from ldap.controls import SimplePagedResultsControl

from dravo.protocols.addresses import AddressNotAllowed, Unreachable, resolve
from dravo.protocols.directory.ldap_errors import trouble
from dravo.protocols.directory.ldap_settings import LdapSettings, read_address
from dravo.protocols.directory.reader import (
    NOTED,
    OK,
    DirectoryTrouble,
    Step,
)

PAGE = 1_000

SECONDS = 30

CONNECT_SECONDS = 5


class LdapConnection:
    """A connection to an LDAP server, opened at the first use."""

    def __init__(self, settings: LdapSettings, secret: str, uses: Sequence[str] = ()) -> None:
        self.settings, self._secret = settings, secret
        self._uses = tuple(dict.fromkeys(uses))
        self._kept = frozenset(self._uses)
        self._connection: Any = None
        self._files: tempfile.TemporaryDirectory[str] | None = None
        self._newest: str | None = None
        self._whole = settings.membership == "memberOf"
        # From memberOf: by folded DN of the group, its DN and members.
        self._by_user: dict[str, tuple[str, list[str]]] = {}
        self._folded: dict[str, str] = {}

    def _connect(self) -> Any:
        if self._connection is None:
            connection = self._open()
            self._encrypt(connection)
            self._sign_in(connection)
            self._connection = connection
        return self._connection

    def _open(self) -> Any:
        scheme, host, port = read_address(self.settings.address)
        try:
            found = resolve(host, port)
        except AddressNotAllowed as wrong:
            raise DirectoryTrouble(wrong.message, wrong.hint) from None
        except Unreachable as wrong:
            raise DirectoryTrouble(
                f"The directory cannot be found: {wrong}.", "Check the host name."
            ) from None
        try:
            socket.create_connection((str(found), port), timeout=CONNECT_SECONDS).close()
        except OSError as wrong:
            why = wrong.strerror or "no response in time"
            raise DirectoryTrouble(
                f"{host}, port {port}, does not respond: {why}.",
                "Check the host and the port, and that the directory is running.",
            ) from None
        encrypted = scheme == "ldaps" or self.settings.start_tls
        if not encrypted and self.settings.sign_in == "simple" and not found.is_loopback:
            raise DirectoryTrouble("The password would be sent in clear text.", "Use ldaps://, or StartTLS.")
        # With TLS, the certificate verifies the name; without it, the connection goes to the checked address.
        named = host if encrypted and self.settings.check_certificate else str(found)
        connection = ldap.initialize(f"{scheme}://{f'[{named}]' if ':' in named else named}:{port}")
        connection.set_option(ldap.OPT_PROTOCOL_VERSION, ldap.VERSION3)
        connection.set_option(ldap.OPT_NETWORK_TIMEOUT, SECONDS)
        connection.set_option(ldap.OPT_TIMEOUT, SECONDS)
        connection.set_option(ldap.OPT_REFERRALS, int(self.settings.follow_referrals))
        demand = ldap.OPT_X_TLS_DEMAND if self.settings.check_certificate else ldap.OPT_X_TLS_NEVER
        connection.set_option(ldap.OPT_X_TLS_REQUIRE_CERT, demand)
        self._take_certificates(connection)
        connection.set_option(ldap.OPT_X_TLS_NEWCTX, 0)
        return connection

    def _take_certificates(self, connection: Any) -> None:
        """Use the connection's own CA and certificate; the library reads them from files, which exist as long
        as this reader.
        """
        self._files = tempfile.TemporaryDirectory(prefix="dravo-")
        for text, name, option in (
            (self.settings.ca, "ca.pem", ldap.OPT_X_TLS_CACERTFILE),
            (self.settings.client_certificate, "certificate.pem", ldap.OPT_X_TLS_CERTFILE),
            (self._secret if self.settings.client_certificate else "", "key.pem", ldap.OPT_X_TLS_KEYFILE),
        ):
            if text:
                file = Path(self._files.name) / name
                file.touch(mode=0o600)
                file.write_text(text)
                connection.set_option(option, str(file))

    def _encrypt(self, connection: Any) -> None:
        if self.settings.address.lower().startswith("ldap://") and self.settings.start_tls:
            try:
                connection.start_tls_s()
            except ldap.LDAPError as wrong:
                raise trouble(wrong, "StartTLS") from None

    def _sign_in(self, connection: Any) -> None:
        settings = self.settings
        try:
            if settings.sign_in == "external":
                connection.sasl_external_bind_s()
            elif settings.sign_in == "simple":
                if not self._secret:
                    # A bind with a name and no password is anonymous, but looks like success (RFC 4513,
                    # 5.1.2).
                    raise DirectoryTrouble(
                        "The password is missing.",
                        "Enter the password of the bind DN, or use an anonymous bind.",
                    )
                connection.simple_bind_s(settings.bind_dn, self._secret)
            else:
                connection.simple_bind_s("", "")
        except ldap.LDAPError as wrong:
            raise trouble(wrong, "the bind") from None

    def close(self) -> None:
        """Close the connection."""
        if self._connection is not None:
            with contextlib.suppress(ldap.LDAPError):
                self._connection.unbind_s()
            self._connection = None
        if self._files is not None:
            self._files.cleanup()

    def _search(
        self, base: str, scope: int, text: str, names: Sequence[str]
    ) -> Iterator[tuple[str, dict[str, list[bytes]]]]:
        connection = self._connect()
        page = SimplePagedResultsControl(True, size=PAGE, cookie="")

        def ask() -> int:
            asked: int = connection.search_ext(
                base, scope, text, [*dict.fromkeys(names)], serverctrls=[page], timeout=SECONDS
            )
            return asked

        number: int | None = None
        while True:
            try:
                number = ask() if number is None else number
                _, found, _, controls = connection.result3(number, timeout=SECONDS)
                cookies = [
                    each.cookie
                    for each in controls
                    if each.controlType == SimplePagedResultsControl.controlType
                ]
                more = bool(cookies and cookies[0])
                if more:
                    # The directory prepares the next page while this one is processed.
                    page.cookie = cookies[0]
                    number = ask()
            except ldap.LDAPError as wrong:
                raise trouble(wrong, f"reading {base}") from None
            for dn, values in found:
                # Referrals have no DN; they are followed only if the settings say so.
                if dn:
                    yield dn, values
            if not more:
                return

    def _ask_whether_it_answers(self) -> None:
        """Ask something that needs no login, by a separate connection: a server may refuse StartTLS while a
        question is open.
        """
        connection = self._open()
        try:
            connection.search_ext_s(
                "", ldap.SCOPE_BASE, "(objectClass=*)", ["supportedControl"], timeout=SECONDS
            )
        except (
            ldap.CONFIDENTIALITY_REQUIRED,
            ldap.INSUFFICIENT_ACCESS,
            ldap.STRONG_AUTH_REQUIRED,
            ldap.INAPPROPRIATE_AUTH,
            ldap.NO_SUCH_OBJECT,
            ldap.UNWILLING_TO_PERFORM,
        ):
            # The server answers, but shows nothing without a bind.
            return
        except ldap.LDAPError as wrong:
            raise trouble(wrong, "connecting") from None
        finally:
            with contextlib.suppress(ldap.LDAPError):
                connection.unbind_s()

    def _tls_step(self) -> Step:
        settings = self.settings
        if settings.address.lower().startswith("ldap://") and not settings.start_tls:
            return Step(
                "TLS",
                NOTED,
                "The connection is not encrypted. Others can read passwords and user data.",
                "Use ldaps:// or StartTLS.",
            )
        if not settings.check_certificate:
            return Step(
                "TLS",
                NOTED,
                "Encrypted, but the certificate is not verified.",
                "Enable certificate verification. Enter your own CA if needed.",
            )
        return Step("TLS", OK, "Encrypted, and the certificate is valid.")
