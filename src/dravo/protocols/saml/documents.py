"""Reads XML that strangers send: no document type, no entities, no network, limits on size and depth; comments are taken out."""

from __future__ import annotations

from lxml import etree

from dravo.protocols.saml.names import q
from dravo.protocols.signing_in import SignInRefused

LARGEST = 512 * 1024
DEEPEST, MOST_ELEMENTS = 60, 20_000


def read_document(content: bytes, largest: int = LARGEST) -> etree._Element:
    """Return the root of an XML document.

    Comments are taken out as it is read, so that no text is cut in two by one; a signature by exclusive canonicalization
    does not cover them.

    Raises:
        SignInRefused: "malformed", "too large" or "document type".
    """
    if len(content) > largest:
        raise SignInRefused("too large", f"The message has {len(content):,} bytes; at most {largest:,} are read.", "Send fewer groups or attributes.")
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, dtd_validation=False, huge_tree=False, remove_comments=True, remove_pis=False
    )
    try:
        root = etree.fromstring(content, parser)
    except (etree.XMLSyntaxError, ValueError) as wrong:
        raise SignInRefused(
            "malformed", f"The message is not well-formed XML: {str(wrong)[:200]}.", "See what really arrived in the trace."
        ) from None
    if root.getroottree().docinfo.doctype or root.getroottree().docinfo.internalDTD is not None:
        raise SignInRefused("document type", "The message declares a document type, which SAML never does.", "Whoever sent this is not a provider.")
    _check_form(root)
    return root


def _check_form(root: etree._Element) -> None:
    number = 0
    waiting = [(root, 1)]
    while waiting:
        element, depth = waiting.pop()
        number += 1
        if depth > DEEPEST or number > MOST_ELEMENTS:
            raise SignInRefused("too large", "The message is nested too deeply, or has too many parts.", "Whoever sent this is not a provider.")
        for child in element:
            if not isinstance(child.tag, str):
                raise SignInRefused("malformed", "The message has processing instructions or entities in it.", "Whoever sent this is not a provider.")
            waiting.append((child, depth + 1))


def text_of(element: etree._Element | None) -> str:
    """Return all text of an element, also of those within it, without blanks around it."""
    return "".join(element.itertext()).strip() if element is not None else ""


def only(parent: etree._Element, namespace: str, name: str) -> etree._Element | None:
    """Return the one child of a name; None if there is none.

    Raises:
        SignInRefused: "malformed", if there are several.
    """
    found = parent.findall(q(namespace, name))
    if len(found) > 1:
        raise SignInRefused("malformed", f"The message has {len(found)} elements '{name}' where one belongs.", "Whoever sent this is not a provider.")
    return found[0] if found else None


def check_ids(root: etree._Element) -> None:
    """Make sure that no two elements have one ID: a signature by reference could mean either.

    Raises:
        SignInRefused: "duplicate ids".
    """
    seen: set[str] = set()
    for element in root.iter():
        for name in ("ID", "Id", "id", "{http://www.w3.org/XML/1998/namespace}id"):
            value = element.get(name)
            if value is None:
                continue
            if value in seen:
                raise SignInRefused(
                    "duplicate ids", f"Two elements of the message have the ID '{value[:80]}'.", "Whoever sent this is not a provider."
                )
            seen.add(value)
