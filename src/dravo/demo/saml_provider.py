"""The SAML side of the stand-in for an identity provider."""

from __future__ import annotations

import base64
import hashlib
import html
import json
import secrets
import threading
import zlib
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import NameOID
from lxml import etree
from signxml.algorithms import CanonicalizationMethod, DigestAlgorithm, SignatureMethod
from signxml.signer import XMLSigner

from dravo.demo.http_server import Answer, Call, page

SAML, SAMLP = "urn:oasis:names:tc:SAML:2.0:assertion", "urn:oasis:names:tc:SAML:2.0:protocol"
MD, DS = "urn:oasis:names:tc:SAML:2.0:metadata", "http://www.w3.org/2000/09/xmldsig#"
FORMATS = "urn:oasis:names:tc:SAML:2.0:nameid-format:"
CLAIMS = "http://schemas.fernhollow.example/claims/"
PASSWORD = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"


class SamlProvider:
    """Issues SAML responses for the chosen user."""

    def __init__(self, name: str, port: int, data_file: Path) -> None:
        self.name, self.url, self.data_file = name, f"http://127.0.0.1:{port}", data_file
        self.lock = threading.RLock()
        empty: dict[str, Any] = {
            "users": {},
            "groups": {},
            "faults": {},
            "keys": [],
            "client": {"id": "dravo", "secret": "not-much-of-a-secret"},
        }
        self.kept: dict[str, Any] = json.loads(data_file.read_text()) if data_file.exists() else empty
        self.codes: dict[str, dict[str, Any]] = {}
        self.access: dict[str, str] = {}
        self.signed_out = 0
        if not self.kept["keys"]:
            self.new_keys()

    def new_keys(self) -> None:
        """Create a new key, and forget the former one."""
        key = rsa.generate_private_key(65537, 2048)
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, self.name)])
        now = datetime.now(UTC)
        made = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(subject)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + timedelta(days=25))
            .sign(key, hashes.SHA256())
        )
        pem = key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        ).decode()
        certificate = made.public_bytes(serialization.Encoding.PEM).decode()
        self.kept["keys"] = [{"id": secrets.token_hex(4), "key": pem, "certificate": certificate}]
        self.data_file.write_text(json.dumps(self.kept))

    def fault(self, name: str) -> str | int | float | bool | None:
        """Return whether a fault is switched on, and how."""
        found: str | int | float | bool | None = self.kept["faults"].get(name)
        return found

    def claims(self, name: str) -> dict[str, list[str]]:
        """Return the claims of a user."""
        user = self.kept["users"][name]
        groups = user.get("groups", [])
        if self.fault("ids_for_names"):
            groups = [
                self.kept["groups"].get(each) or hashlib.sha256(each.encode()).hexdigest()[:32]
                for each in groups
            ]
        if self.fault("letter_case"):
            groups = [each.upper() for each in groups]
        said = {
            "username": [name],
            "email": [user["email"]],
            "givenname": [user["given"]],
            "surname": [user["family"]],
        }
        said["displayname"] = [f"{user['given']} {user['family']}"]
        if not self.fault("no_groups"):
            said["groups"] = groups
        if self.fault("namespaced"):
            said = {f"{CLAIMS}{each}": values for each, values in said.items()}
        return said

    def chooser(self, title: str, fields: dict[str, str], action: str) -> Answer:
        """Return the page on which visitors choose a user."""
        hidden = "".join(
            f'<input type=hidden name="{html.escape(name)}" value="{html.escape(value)}">'
            for name, value in fields.items()
        )
        users = "".join(
            f'<p><button name=who value="{html.escape(name)}">{html.escape(user["given"])} '
            f"{html.escape(user['family'])}</button>"
            for name, user in sorted(self.kept["users"].items())
        )
        return page(
            self.name, [f"<h2>{title}</h2><form method=post action='{action}'>{hidden}{users}</form>"]
        )

    def metadata(self, _: Call) -> Answer:
        """Return who we are, as SAML has it."""
        body = "".join(self.kept["keys"][0]["certificate"].strip().splitlines()[1:-1])
        sign_in = "".join(
            f'<md:SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-{binding}" '
            f'Location="{self.url}/saml"/>'
            for binding in ("Redirect", "POST")
        )
        redirected = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect"
        sign_out = f'<md:SingleLogoutService Binding="{redirected}" Location="{self.url}/sign-out"/>'
        text = (
            f'<md:EntityDescriptor xmlns:md="{MD}" entityID="{self.url}/entity"><md:IDPSSODescriptor '
            f'protocolSupportEnumeration="{SAMLP}">'
            '<md:KeyDescriptor use="signing"><ds:KeyInfo '
            f'xmlns:ds="{DS}"><ds:X509Data><ds:X509Certificate>{body}</ds:X509Certificate></ds:X509Data>'
            f"</ds:KeyInfo></md:KeyDescriptor>{sign_out}{sign_in}</md:IDPSSODescriptor></md:EntityDescriptor>"
        )
        return Answer(200, text, "application/samlmetadata+xml")

    def saml(self, call: Call) -> Answer:
        """Handle a request: ask for the user, and have the browser post the response."""
        if call.method == "POST" and "who" in call.form:
            return self.respond(call.form)
        form = call.form if call.method == "POST" else call.query
        packed = base64.b64decode(form.get("SAMLRequest", ""))
        if not packed:
            return Answer(400, {"error": "No request."}, "application/json")
        asked = etree.fromstring(packed if call.method == "POST" else zlib.decompress(packed, -15))
        fields = {
            "id": asked.get("ID", ""),
            "acs": asked.get("AssertionConsumerServiceURL", ""),
            "relay": form.get("RelayState", ""),
            "audience": asked.findtext(f"{{{SAML}}}Issuer") or "",
        }
        return self.chooser("Who are you?", fields, "/saml")

    def respond(self, form: dict[str, str]) -> Answer:
        """Return the page that posts a response automatically."""
        status = "Success"
        if form["who"] not in self.kept["users"] or self.fault("not_assigned"):
            status = "RequestDenied"
        now = datetime.now(UTC) + timedelta(seconds=float(self.fault("clock_skew") or 0))
        content = base64.b64encode(self.response(form, now, status)).decode()
        text = (
            "<!doctype html><html lang=en><meta charset=utf-8><title>Back</title>"
            f'<form id=on method=post action="{html.escape(form["acs"])}"><input type=hidden '
            f'name=SAMLResponse value="{content}">'
            "<input type=hidden name=RelayState "
            f'value="{html.escape(form["relay"])}"><button>Back</button></form>'
            "<script>document.getElementById('on').submit()</script></html>"
        )
        return Answer(200, text, "text/html; charset=utf-8")

    def response(self, form: dict[str, str], now: datetime, status: str) -> bytes:
        """Return a response, its assertion signed."""

        def at(seconds: float) -> str:
            return (now + timedelta(seconds=seconds)).strftime("%Y-%m-%dT%H:%M:%SZ")

        acs = (
            form["acs"]
            if not self.fault("wrong_address")
            else form["acs"].replace("/saml/acs", "/saml/consume")
        )
        audience = (
            form["audience"] if not self.fault("wrong_audience") else "urn:fernhollow:some-other-service"
        )
        root = etree.Element(
            f"{{{SAMLP}}}Response",
            nsmap={"samlp": SAMLP, "saml": SAML},
            ID=f"_{secrets.token_hex(16)}",
            Version="2.0",
            IssueInstant=at(0),
            Destination=acs,
            InResponseTo=form["id"],
        )
        etree.SubElement(root, f"{{{SAML}}}Issuer").text = f"{self.url}/entity"
        outer = etree.SubElement(root, f"{{{SAMLP}}}Status")
        code = etree.SubElement(outer, f"{{{SAMLP}}}StatusCode")
        if status != "Success":
            code.set("Value", "urn:oasis:names:tc:SAML:2.0:status:Responder")
            etree.SubElement(
                code, f"{{{SAMLP}}}StatusCode", Value=f"urn:oasis:names:tc:SAML:2.0:status:{status}"
            )
            etree.SubElement(
                outer, f"{{{SAMLP}}}StatusMessage"
            ).text = "You are not assigned to this service."
            return bytes(etree.tostring(root))
        code.set("Value", "urn:oasis:names:tc:SAML:2.0:status:Success")
        root.append(self.signed(self.assertion(form["who"], form["id"], acs, audience, at)))
        return bytes(etree.tostring(root))

    def assertion(self, who: str, request: str, acs: str, audience: str, at: Any) -> etree._Element:
        """Return an assertion about a user."""
        one = etree.Element(
            f"{{{SAML}}}Assertion",
            nsmap={"saml": SAML},
            ID=f"_{secrets.token_hex(16)}",
            Version="2.0",
            IssueInstant=at(0),
        )

        def add(
            parent: etree._Element, name: str, text: str | None = None, **attributes: str
        ) -> etree._Element:
            made = etree.SubElement(parent, f"{{{SAML}}}{name}", **attributes)
            made.text = text
            return made

        add(one, "Issuer", f"{self.url}/entity")
        subject = add(one, "Subject")
        transient = self.fault("transient")
        name_id = secrets.token_hex(12) if transient else self.kept["users"][who]["id"]
        add(subject, "NameID", name_id, Format=f"{FORMATS}{'transient' if transient else 'persistent'}")
        confirmation = add(subject, "SubjectConfirmation", Method="urn:oasis:names:tc:SAML:2.0:cm:bearer")
        add(
            confirmation, "SubjectConfirmationData", Recipient=acs, NotOnOrAfter=at(300), InResponseTo=request
        )
        conditions = add(one, "Conditions", NotBefore=at(-5), NotOnOrAfter=at(300))
        add(add(conditions, "AudienceRestriction"), "Audience", audience)
        session = f"_{secrets.token_hex(8)}"
        signed_in = add(one, "AuthnStatement", AuthnInstant=at(0), SessionIndex=session)
        add(add(signed_in, "AuthnContext"), "AuthnContextClassRef", PASSWORD)
        statement = add(one, "AttributeStatement")
        for name, values in self.claims(who).items():
            attribute = add(statement, "Attribute", Name=name)
            for value in values:
                add(attribute, "AttributeValue", value)
        return one

    def signed(self, assertion: etree._Element) -> etree._Element:
        """Return an assertion with its signature after the issuer."""
        kept = self.kept["keys"][0]
        if self.fault("other_certificate"):
            other = rsa.generate_private_key(65537, 2048)
            form = (
                serialization.Encoding.PEM,
                serialization.PrivateFormat.PKCS8,
                serialization.NoEncryption(),
            )
            kept = {**kept, "key": other.private_bytes(*form).decode()}
        signer = XMLSigner(
            signature_algorithm=SignatureMethod.RSA_SHA256,
            digest_algorithm=DigestAlgorithm.SHA256,
            c14n_algorithm=CanonicalizationMethod.EXCLUSIVE_XML_CANONICALIZATION_1_0,
        )
        made = signer.sign(
            assertion,
            key=kept["key"].encode(),
            reference_uri=f"#{assertion.get('ID')}",
            id_attribute="ID",
            always_add_key_value=False,
        )
        signature = made.find(f"{{{DS}}}Signature")
        made.remove(signature)
        made.insert(1, signature)
        return made
