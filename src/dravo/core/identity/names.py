"""Compares user names by the profile UsernameCaseMapped (RFC 8265, section 3.3), and by how they look."""

from __future__ import annotations

import functools
import unicodedata

from precis_i18n import get_profile

_PROFILE = get_profile("UsernameCaseMapped")


def fold(text: str) -> str:
    """Return a text as it is compared where letter case does not matter: composed form, case folded."""
    # ASCII has only one form, and most compared texts are ASCII.
    return text.lower() if text.isascii() else unicodedata.normalize("NFC", text).casefold()


def user_name_key(name: str) -> str:
    """Return a user name as it is compared.

    A name that the profile does not allow is compared by `fold`, and never refused.
    """
    if name.isascii():
        return name.lower()
    try:
        return str(_PROFILE.enforce(name))
    except UnicodeEncodeError:
        return fold(name)


def comparable(attribute: str, text: str) -> str:
    """Return a text of an attribute of SCIM that is not case-exact as it is compared."""
    return user_name_key(text) if attribute == "userName" else fold(text)


def lookalike_key(name: str) -> str | None:
    """Return the user name that a name looks like.

    It has no invisible characters, and Latin letters in place of similar ones of another script.

    Returns:
        None for a name of one script without invisible characters.
    """
    if name.isascii():
        return None
    seen = "".join(each for each in name if unicodedata.category(each) != "Cf")
    if seen == name and not _mixes_scripts(seen):
        return None
    return user_name_key("".join(_latin(each) for each in seen))


def _mixes_scripts(name: str) -> bool:
    # Imported at its first use: loading its tables takes a tenth of a second, and few names need them.
    from confusable_homoglyphs import confusables

    return bool(confusables.is_mixed_script(name, allowed_aliases=["COMMON", "INHERITED"]))


@functools.lru_cache(maxsize=10_000)
def _latin(character: str) -> str:
    """Return the ASCII character that a character looks like, or the character itself."""
    if character.isascii():
        return character
    from confusable_homoglyphs import confusables

    found = confusables.is_confusable(character, greedy=True, preferred_aliases=[]) or []
    for each in found:
        for homoglyph in each["homoglyphs"]:
            if homoglyph["c"].isascii() and homoglyph["c"].isalnum():
                return str(homoglyph["c"])
    return character
