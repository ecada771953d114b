"""Checks of a received response before the user is provisioned."""

from __future__ import annotations

from dataclasses import replace

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.identity.claims import told_groups
from dravo.core.identity.names import fold
from dravo.core.identity.records import searchable
from dravo.core.identity.source_policy import Refused
from dravo.core.instants import Instant, later
from dravo.protocols.verified_identity import SignInRefused
from dravo.services.context import AppContext
from dravo.services.security.secrets import digest
from dravo.services.sign_in import messages as sign_in_messages
from dravo.services.sign_in.jit_provisioning import JitProvisioner
from dravo.services.sign_in.settings.settings import ENABLED, PILOT
from dravo.services.sign_in.verification import (
    TRANSIENT,
    SignInAttempt,
    seconds_of,
)
from dravo.store import clock
from dravo.store.sign_in import former_records
from dravo.store.sign_in import requests as sign_in_requests
from dravo.store.sign_in import users as sign_in_users

# An assertion is valid for at most 24 hours, so its ID is kept for longer, whatever the clock skew.
LONGEST_REMEMBERED = 26 * 3_600.0


def check_lasting(way: SignInAttempt) -> None:
    """Check that the subject is permanent, because an operator is linked to it."""
    if way.named is not None and way.named.format == TRANSIENT:
        hint = "Configure the provider to send a persistent NameID."
        raise SignInRefused(
            "no_subject", "The provider sends a new NameID at each sign-in (transient NameID).", hint
        )


def reject_replay(ctx: AppContext, way: SignInAttempt) -> None:
    """Check that an assertion is accepted once only; raises "replay"."""
    assert way.proved is not None
    mark, until = way.proved.once
    try:
        with ctx.database.writing() as connection:
            sign_in_requests.insert_consumed(connection, way.source.id, digest(mark), _instant(until))
    except IntegrityError:
        hint = "Start the sign-in again. Do not use the Back button."
        raise SignInRefused("replay", "This response was used already.", hint) from None
    way.steps.note("Not a replay", "The response is used for the first time.")


def _instant(seconds: float) -> Instant:
    # Times are checked before: nothing is accepted that is valid for longer than the longest setting plus the
    # clock skew.
    return later(clock.now(), max(60.0, min(seconds - seconds_of(clock.now()) + 300, LONGEST_REMEMBERED)))


def apply_subject_claim(way: SignInAttempt) -> None:
    """Use the configured claim as the subject, in place of the provider's own subject."""
    name = way.row.settings.get("subject_claim")
    if not name or way.proved is None:
        return
    values = [
        str(each)
        for known, some in way.proved.attributes.items()
        if fold(known) == fold(name)
        for each in some
    ]
    if len(values) != 1 or not values[0].strip():
        hint = "Configure the provider to send one value, or choose another subject claim."
        raise SignInRefused("no_subject", f"The subject claim '{name}' has {len(values)} values.", hint)
    way.proved = replace(way.proved, subject=values[0])


def check_sign_in_test(way: SignInAttempt) -> None:
    """Check that a test sign-in is used by its user."""
    if way.sign_in_test is None or way.user is None:
        return
    found = searchable(way.user)
    if way.sign_in_test.user_key not in (fold(found.user_name), fold(found.email or "")):
        hint = "Sign in as the invited user, or create a test sign-in for this user."
        raise SignInRefused(
            "wrong_user",
            f"The test sign-in is for '{way.sign_in_test.user}', but '{found.user_name}' signed in.",
            hint,
        )
    way.steps.note(
        "Test sign-in",
        f"Test sign-in for '{way.sign_in_test.user}', mode {'observe' if way.observes else 'apply'}.",
    )


def check_status(ctx: AppContext, way: SignInAttempt, one: JitProvisioner) -> None:
    """Check that the sign-in status of the source includes this user."""
    if way.sign_in_test is not None:
        return
    if way.row.status == ENABLED:
        return
    if way.row.status == PILOT and _in_pilot(ctx, way, one):
        way.steps.note("Status", f"The user is a member of the pilot group '{way.row.settings['pilot']}'.")
        return
    raise (
        sign_in_messages.not_in_pilot(way.row.settings["pilot"])
        if way.row.status == PILOT
        else sign_in_messages.off()
    )


def _in_pilot(ctx: AppContext, way: SignInAttempt, one: JitProvisioner) -> bool:
    """Whether a user is in the pilot group, by claims or by known memberships."""
    assert way.proved is not None
    wanted = fold(way.row.settings["pilot"])
    if wanted in {fold(each) for each in told_groups(one.policy, one.entry.attributes) or ()}:
        return True
    with ctx.database.reading() as connection:
        record = sign_in_users.record_of_subject(connection, way.source.id, way.proved.native_id)
        # After a change of the protocol, users are still known by their user name.
        user_id = record.user_id if record is not None else _known_before(connection, way.source.id, one)
        if user_id is None:
            return False
        return sign_in_users.is_in_group(connection, way.source.id, way.row.settings["pilot"], user_id)


def _known_before(connection: Connection, source_id: str, one: JitProvisioner) -> str | None:
    """Return the user who signed in by a former protocol of the source under the same user name, or None."""
    try:
        user = one.policy.user(one.entry.attributes)
    except Refused:
        # The next step explains it.
        return None
    return former_records.user_named(connection, source_id, searchable(user).user_name_key)
