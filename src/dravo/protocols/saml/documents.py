"""Reads XML from unknown senders: no document type, no entities, no network, limits on size and depth,
comments removed.
"""

from __future__ import annotations

from lxml import etree

from dravo.protocols.saml.names import q
from dravo.protocols.verified_identity import SignInRefused

LARGEST = 512 * 1024
DEEPEST, MOST_ELEMENTS = 60, 20_000


def read_document(content: bytes, largest: int = LARGEST) -> etree._Element:
    """Return the root of an XML document.

    Comments are removed on reading, so that none splits a text; signatures by exclusive canonicalization do
    not cover them.

    Raises:
        SignInRefused: "malformed", "too large" or "document type".
    """
    if len(content) > largest:
        raise SignInRefused(
            "too_large",
            f"The message has {len(content):,} bytes. The maximum is {largest:,}.",
            "Send fewer groups or attributes.",
        )
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        dtd_validation=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=False,
    )
    try:
        root = etree.fromstring(content, parser)
    except (etree.XMLSyntaxError, ValueError) as wrong:
        raise SignInRefused(
            "malformed",
            f"The message is not well-formed XML: {str(wrong)[:200]}.",
            "Check the raw message in the sign-in history.",
        ) from None
    if root.getroottree().docinfo.doctype or root.getroottree().docinfo.internalDTD is not None:
        raise SignInRefused(
            "document_type",
            "The message declares a document type, which SAML does not allow.",
            "The sender is not a SAML provider. Check the ACS URL and the provider.",
        )
    _check_form(root)
    return root


# By the tree's own iterator, which is fast: a message has hundreds of elements.
_NUMBER, _TOO_DEEP = etree.XPath("count(//*)"), etree.XPath(f"boolean({'/*' * (DEEPEST + 1)})")
_STRANGE = etree.XPath("boolean(//processing-instruction())")
_IDS = etree.XPath("//@ID | //@Id | //@id | //@xml:id")


def _check_form(root: etree._Element) -> None:
    if _NUMBER(root) > MOST_ELEMENTS or _TOO_DEEP(root):
        raise SignInRefused(
            "too_large",
            "The message is nested too deeply or has too many elements.",
            "The sender is not a SAML provider. Check the ACS URL and the provider.",
        )
    if _STRANGE(root):
        raise SignInRefused(
            "malformed",
            "The message contains processing instructions.",
            "The sender is not a SAML provider. Check the ACS URL and the provider.",
        )


def text_of(element: etree._Element | None) -> str:
    """Return all text of an element, also of those within it, without blanks around it."""
    if element is None:
        return ""
    return (str(element.text or "") if not len(element) else "".join(element.itertext())).strip()


def only(parent: etree._Element, namespace: str, name: str) -> etree._Element | None:
    """Return the only child with a name, or None.

    Raises:
        SignInRefused: "malformed", for several.
    """
    found = parent.findall(q(namespace, name))
    if len(found) > 1:
        raise SignInRefused(
            "malformed",
            f"The message has {len(found)} elements '{name}' instead of one.",
            "The sender is not a SAML provider. Check the ACS URL and the provider.",
        )
    return found[0] if found else None


def check_ids(root: etree._Element) -> None:
    """Check that IDs are unique: a signature by reference could mean either element.

    Raises:
        SignInRefused: "duplicate ids".
    """
    found = [str(each) for each in _IDS(root)]
    if len(set(found)) < len(found):
        double = next(each for each in found if found.count(each) > 1)
        raise SignInRefused(
            "duplicate_ids",
            f"Two elements of the message have the ID '{double[:80]}'.",
            "The sender is not a SAML provider. Check the ACS URL and the provider.",
        )
