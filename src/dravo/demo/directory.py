"""A real LDAP directory for the demo and the tests: Debian's slapd in its own folder, on loopback, with TLS
by its own CA.

`ldif()` writes the entries to load before the start; later changes are made by LDAP. The account that Dravo
uses can read everything except passwords, and write nothing.
"""

from __future__ import annotations

import base64
import ipaddress
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from ldap.dn import escape_dn_chars

SUFFIX = "dc=estates,dc=fernhollow,dc=example"
USERS, GROUPS = f"ou=people,{SUFFIX}", f"ou=groups,{SUFFIX}"
ADMIN, ADMIN_PASSWORD = f"cn=keeper,{SUFFIX}", "keeper-of-the-estates"
READER, READER_PASSWORD = f"cn=reader,{SUFFIX}", "reader-of-the-estates"
_CONFIG = """\
include {schemas}/core.schema
include {schemas}/cosine.schema
include {schemas}/inetorgperson.schema
include {schemas}/nis.schema
modulepath {modules}
moduleload back_mdb
moduleload memberof
pidfile {folder}/slapd.pid
TLSCACertificateFile {folder}/ca.pem
TLSCertificateFile {folder}/server.pem
TLSCertificateKeyFile {folder}/server.key
threads 4
sizelimit size={sizelimit} size.prtotal={sizelimit}
database mdb
maxsize 2147483648
suffix "{suffix}"
rootdn "{admin}"
rootpw {password}
directory {folder}/data
dbnosync
overlay memberof
index objectClass,entryUUID eq
index uid,cn,member,uniqueMember,memberUid eq
index modifyTimestamp eq
access to attrs=userPassword by anonymous auth by * none
access to * by dn.exact="{reader}" read by * none
"""


def found() -> bool:
    """Whether slapd is installed here."""
    return slapd() is not None


def slapd() -> str | None:
    """Return where slapd is; None if it is not here."""
    return shutil.which("slapd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")


class Directory:
    """One slapd in a folder."""

    def __init__(self, folder: Path, port: int, tls_port: int, *, sizelimit: str = "unlimited") -> None:
        self.folder, self.port, self.tls_port = folder, port, tls_port
        self.sizelimit = sizelimit
        self.process: subprocess.Popen[bytes] | None = None

    @property
    def address(self) -> str:
        """Where it answers, for StartTLS or in clear."""
        return f"ldap://127.0.0.1:{self.port}"

    @property
    def tls_address(self) -> str:
        """Where it answers in TLS from the first byte on."""
        return f"ldaps://127.0.0.1:{self.tls_port}"

    @property
    def ca(self) -> str:
        """The certificate of its CA."""
        return (self.folder / "ca.pem").read_text()

    def prepare(self, entries: str | None = None) -> None:
        """Write the configuration, and load an empty directory with its first entries (LDIF, RFC 2849)."""
        self.folder.mkdir(parents=True, exist_ok=True)
        if not (self.folder / "ca.pem").exists():
            make_certificates(self.folder)
        config = _CONFIG.format(
            schemas="/etc/ldap/schema",
            modules="/usr/lib/ldap",
            folder=self.folder,
            suffix=SUFFIX,
            admin=ADMIN,
            password=ADMIN_PASSWORD,
            reader=READER,
            sizelimit=self.sizelimit,
        )
        (self.folder / "slapd.conf").write_text(config)
        if (self.folder / "data").exists():
            return
        (self.folder / "data").mkdir()
        first = self.folder / "first.ldif"
        first.write_text(frame() + (entries or ""))
        adding = [str(slapd()), "-T", "add", "-q", "-f", str(self.folder / "slapd.conf"), "-l", str(first)]
        subprocess.run(adding, check=True, capture_output=True)

    def start(self) -> None:
        """Start slapd, and wait until it answers.

        Raises:
            RuntimeError: if it does not, for example because a port is taken.
        """
        command = [
            str(slapd()),
            "-d",
            "0",
            "-f",
            str(self.folder / "slapd.conf"),
            "-h",
            f"ldap://127.0.0.1:{self.port} ldaps://127.0.0.1:{self.tls_port}",
        ]
        self.process = subprocess.Popen(command, stderr=subprocess.DEVNULL, start_new_session=True)
        wait_for_port(self.port, self.process)

    def stop(self) -> None:
        """End it."""
        if self.process is not None:
            self.process.kill()
            self.process.wait()
            self.process = None


def wait_for_port(port: int, process: subprocess.Popen[bytes], seconds: float = 20) -> None:
    """Wait until something listens at a port of this machine.

    Raises:
        RuntimeError: if the process ends, or after the time.
    """
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        if process.poll() is not None:
            raise RuntimeError(f"slapd ended with {process.returncode}")
        time.sleep(0.02)
    raise RuntimeError("slapd does not answer")


def frame() -> str:
    """Return the container entries, and the account for reading."""
    top = ldif(
        SUFFIX,
        {
            "objectClass": ["dcObject", "organization"],
            "dc": ["estates"],
            "o": ["Fernhollow Botanic Trust, Estates"],
        },
    )
    units = [
        ldif(dn, {"objectClass": ["organizationalUnit"], "ou": [dn.partition("=")[2].partition(",")[0]]})
        for dn in (USERS, GROUPS)
    ]
    reader = {
        "objectClass": ["organizationalRole", "simpleSecurityObject"],
        "cn": ["reader"],
        "userPassword": [READER_PASSWORD],
    }
    return "".join((top, *units, ldif(READER, reader)))


def ldif(dn: str, attributes: Mapping[str, Sequence[str | bytes]]) -> str:
    """Return one entry in LDIF; whatever is not plain ASCII in base64."""
    lines = [_line("dn", dn)]
    lines += [_line(name, value) for name, values in attributes.items() for value in values]
    return "\n".join(lines) + "\n\n"


def _line(name: str, value: str | bytes) -> str:
    content = value if isinstance(value, bytes) else value.encode()
    plain = (
        content.isascii()
        and not content.startswith((b" ", b":", b"<"))
        and not content.endswith(b" ")
        and b"\n" not in content
        and b"\0" not in content
    )
    return f"{name}: {content.decode()}" if plain else f"{name}:: {base64.b64encode(content).decode()}"


def user(uid: str, given: str, family: str, more: Mapping[str, Sequence[str | bytes]] | None = None) -> str:
    """Return a user in LDIF."""
    shown = f"{given} {family}".strip()
    return ldif(
        user_dn(uid),
        {
            "objectClass": ["inetOrgPerson"],
            "uid": [uid],
            "cn": [shown],
            "sn": [family or given],
            "givenName": [given],
            "displayName": [shown],
            **(more or {}),
        },
    )


def user_dn(uid: str) -> str:
    """Return the DN of a user."""
    return f"uid={uid},{USERS}"


def group(name: str, members: Iterable[str]) -> str:
    """Return a group in LDIF; `members` are DNs."""
    return ldif(
        group_dn(name), {"objectClass": ["groupOfNames"], "cn": [name], "member": [*members] or [ADMIN]}
    )


def group_dn(name: str) -> str:
    """Return the DN of a group."""
    return f"cn={escape_dn_chars(name)},{GROUPS}"


def make_certificates(folder: Path) -> None:
    """Write a CA of its own, and a certificate for localhost that it signed."""
    now = datetime.now(UTC)

    def build(
        name: str,
        issuer: x509.Name | None,
        key: ec.EllipticCurvePrivateKey,
        signer: ec.EllipticCurvePrivateKey,
    ) -> x509.Certificate:
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        builder = (
            x509.CertificateBuilder()
            .issuer_name(issuer or subject)
            .subject_name(subject)
            .public_key(key.public_key())
        )
        builder = builder.serial_number(x509.random_serial_number())
        builder = builder.not_valid_before(now - timedelta(days=1)).not_valid_after(
            now + timedelta(days=3_650)
        )
        builder = builder.add_extension(x509.BasicConstraints(issuer is None, None), critical=True)
        if issuer is not None:
            names = [x509.DNSName("localhost"), x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]
            builder = builder.add_extension(x509.SubjectAlternativeName(names), critical=False)
        return builder.sign(signer, hashes.SHA256())

    ca_key, key = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    ca = build("Fernhollow Estates CA", None, ca_key, ca_key)
    certificate = build("localhost", ca.subject, key, ca_key)
    (folder / "ca.pem").write_bytes(ca.public_bytes(serialization.Encoding.PEM))
    (folder / "server.pem").write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    file = folder / "server.key"
    file.touch(mode=0o600)
    file.write_bytes(private)
