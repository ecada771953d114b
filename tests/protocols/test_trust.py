"""A server with a certificate of an organization's own authority is trusted by its own connection only."""

from __future__ import annotations

import datetime
import ssl
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from dravo.core.errors import InvalidInput
from dravo.protocols.addresses import Unreachable, allow_loopback
from dravo.protocols.directory.connectors import read_settings
from dravo.protocols.http_client import Client, Connection, Request
from dravo.protocols.trust import read_ca
from dravo.services.applications import applications, connections
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture


@dataclass
class Authority:
    """A certificate authority of its own."""

    pem: str
    certificate: x509.Certificate
    key: ec.EllipticCurvePrivateKey

    def issue(self, folder: Path) -> tuple[Path, Path]:
        """Write a certificate for localhost and its key; return their files."""
        key = ec.generate_private_key(ec.SECP256R1())
        built = _builder("localhost", self.certificate.subject, key).add_extension(
            x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False
        )
        files = folder / "server.pem", folder / "server-key.pem"
        files[0].write_bytes(built.sign(self.key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))
        files[1].write_bytes(_plain(key))
        return files


def _plain(key: ec.EllipticCurvePrivateKey) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def _builder(name: str, issuer: x509.Name | None, key: ec.EllipticCurvePrivateKey) -> x509.CertificateBuilder:
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.datetime.now(datetime.UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer or subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=1))
    )


def authority(name: str = "Fernhollow CA") -> Authority:
    key = ec.generate_private_key(ec.SECP256R1())
    built = _builder(name, None, key).add_extension(
        x509.BasicConstraints(ca=True, path_length=None), critical=True
    )
    certificate = built.sign(key, hashes.SHA256())
    return Authority(certificate.public_bytes(serialization.Encoding.PEM).decode(), certificate, key)


class Answer(BaseHTTPRequestHandler):
    """Answers every request with an empty list."""

    def do_GET(self) -> None:
        body = b'{"schemas": [], "Resources": []}'
        self.send_response(200)
        self.send_header("Content-Type", "application/scim+json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        """Write nothing."""


@dataclass
class Server:
    """A server on loopback with a certificate of its own authority."""

    ca: Authority
    url: str


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    allow_loopback()
    ca = authority()
    certificate, key = ca.issue(tmp_path)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    started = HTTPServer(("127.0.0.1", 0), Answer)
    started.socket = context.wrap_socket(started.socket, server_side=True)
    thread = threading.Thread(target=started.serve_forever, daemon=True)
    thread.start()
    yield Server(ca, f"https://localhost:{started.server_port}")
    started.shutdown()
    started.server_close()
    thread.join()


def test_only_a_connection_with_the_authority_trusts_the_server(server: Server) -> None:
    client = Client()
    read = Request("GET", "/Users")
    try:
        for ca in ("", authority().pem):
            with pytest.raises(Unreachable, match="certificate is not trusted"):
                client.send(Connection(server.url, "token", ca=ca), read)
        answer = client.send(Connection(server.url, "token", ca=server.ca.pem), read)
        assert answer.status == 200
        # The next connection without it does not profit.
        with pytest.raises(Unreachable, match="certificate is not trusted"):
            client.send(Connection(server.url, "token"), read)
        assert client.fetch(server.url, accept="*/*", ca=server.ca.pem).status == 200
    finally:
        client.close()


def test_an_authority_is_checked_when_it_is_saved(services: ServiceFixture) -> None:
    ca = authority()
    assert read_ca(f"\n {ca.pem} ") == ca.pem and read_ca("  ") == ""
    assert (
        read_settings("scim", {"address": "https://a.example/scim", "ca": ca.pem}).model_dump()["ca"]
        == ca.pem
    )
    applications.add(services.ctx, services.caller, "records", "Records", None, tracked_only=False)
    private = _plain(ca.key).decode()
    for text, message in (("no certificate", "CA certificate"), (private, "private key")):
        with pytest.raises(InvalidInput, match=message) as refused:
            read_settings("scim", {"address": "https://a.example/scim", "ca": text})
        assert refused.value.field == "ca"
        wish = ConnectionSettings("https://a.example/scim", "token", {"kind": "bearer", "ca": text})
        with pytest.raises(InvalidInput, match=message):
            connections.connect(services.ctx, services.caller, "records", wish)
    services.source("partners")
    given = {"protocol": "saml", "settings": {"ca": "no certificate"}}
    with pytest.raises(InvalidInput, match="CA certificate"):
        sign_in_settings.change(services.ctx, services.caller, "partners", given)
    wish = ConnectionSettings("https://a.example/scim", "token", {"kind": "bearer", "ca": ca.pem})
    connections.connect(services.ctx, services.caller, "records", wish)
    assert services.rows(t.application)[0].auth == {"kind": "bearer", "ca": ca.pem}
