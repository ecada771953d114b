"""Why somebody who proved who they are is not let in, and the mend: said once, for whoever comes and for whoever only looks ahead."""

from __future__ import annotations

from collections.abc import Sequence

from dravo.core.source_policy import SourcePolicy
from dravo.protocols.signing_in import SignInRefused


def outside(policy: SourcePolicy) -> SignInRefused:
    """They are not of those whom the source lets in."""
    return SignInRefused("outside", f"They are outside of whom you let in: {policy.people}.", "Change the condition, or their attributes.")


def off() -> SignInRefused:
    """Nobody signs in by the source yet."""
    return SignInRefused("off", "Signing in by this source is not in force.", "Put it in force, or make a trial.")


def unfinished(lacking: Sequence[str]) -> SignInRefused:
    """What is needed for it is not there yet, or not any more."""
    return SignInRefused("settings", f"Missing yet: {', '.join(lacking)}.", "Fill it in on the exchange sheet.")


def not_in_pilot(pilot: str) -> SignInRefused:
    """So far it is for a pilot group only."""
    return SignInRefused(
        "pilot", f"They are not in the pilot group '{pilot}'.", "Wait until it is in force for everybody, or be put into that group."
    )


def conflict(message: str, *, ahead: bool) -> SignInRefused:
    """A person has to decide whose it is.

    Args:
        ahead: whether this is only looked at, so that nothing waits under Conflicts yet.
    """
    mend = "Decide it under Conflicts of the source; then they sign in again."
    if ahead:
        mend = "It waits under Conflicts once they sign in for real; or say by what this source may link people, and for which domains."
    return SignInRefused("conflict", f"Whose this is has to be decided by a person. {message}", mend)


def not_known() -> SignInRefused:
    """Nobody here is this person, and nobody is made."""
    return SignInRefused("not known", "Nobody here is this person, and this source makes nobody new.", "Let it make new people, or link by hand.")


def no_code() -> SignInRefused:
    """No code is mailed to their address."""
    message = "They have no e-mail address of a domain whose people sign in by a code."
    return SignInRefused("no code", message, "Add the domain to the source's own, or have their address mended where it comes from.")


def inactive() -> SignInRefused:
    """Whoever says so has them inactive, or gone."""
    return SignInRefused("inactive", "They are inactive here, or have left.", "If they are to come in, have whoever says so make them active again.")
