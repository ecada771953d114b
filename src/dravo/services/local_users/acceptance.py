"""Acceptance of invitations: the invited user chooses a password, or signs in through a source."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.identity.records import LOCAL
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.ingest.intake import Intake
from dravo.services.ingest.types import IngestChange, IngestOptions
from dravo.services.local_users import passwords
from dravo.services.local_users.password_sign_in import start_session
from dravo.services.local_users.passwords import ChosenPassword
from dravo.services.security.secrets import digest
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in.start import SignInChoice
from dravo.store import clock, records
from dravo.store.local import invitations as stored
from dravo.store.local import passwords as password_rows
from dravo.store.local.invitations import OPEN, StoredInvitation
from dravo.store.local.passwords import StoredPassword
from dravo.store.sign_in import users as sign_in_users

PASSWORD = "password"


@dataclass(frozen=True)
class OpenInvitation:
    """An open invitation, for the invited user.

    Attributes:
        sources: where the user signs in; empty for a user who chooses a password.
        least: the minimum length of a password.
        can_confirm_weak: whether a weak password can be confirmed.
    """

    display_name: str
    user_name: str
    organization: str
    until_at: str
    sources: list[SignInChoice]
    least: int
    can_confirm_weak: bool


def read(ctx: AppContext, secret: str) -> OpenInvitation:
    """Return the open invitation of a link.

    Raises:
        NotFound: if it is accepted, withdrawn, expired or unknown; NotPermitted.
    """
    with ctx.database.reading() as connection:
        row = _open(connection, secret)
        values = settings.read(connection)
        names = sign_in_users.names_of(connection, row.user_id)
        return OpenInvitation(
            display_name=names.display_name,
            user_name=names.user_name,
            organization=str(values["organization_name"]),
            until_at=row.until_at,
            sources=sign_in_start.choices_for(connection, row.email),
            least=values["password_length"],
            can_confirm_weak=passwords.may_confirm_weak(connection),
        )


def accept_with_password(ctx: AppContext, secret: str, chosen: ChosenPassword) -> str:
    """Accept an invitation with a password; return the secret of the user's session.

    Raises:
        NotFound: as `read`; InvalidInput: for the password, or a user whose domain has a source;
            WeakPassword.
    """
    with ctx.database.reading() as connection:
        row = _open(connection, secret)
        if sign_in_start.choices_for(connection, row.email):
            raise InvalidInput(
                "Your organization has its own sign-in.", "Use its sign-in to accept.", "password"
            )
        kept = passwords.hashed(connection, (row.user_name, row.display_name, row.email), chosen)
    session: list[str] = []

    def write(connection: Connection) -> None:
        now = clock.now()
        password_rows.set_password(connection, StoredPassword(row.user_id, kept, False, None, now))
        session[:] = [start_session(ctx, connection, row.user_id, row.user_name)]

    _activate(ctx, row, PASSWORD, write)
    return session[0]


def accept_with_source(ctx: AppContext, secret: str, source: str) -> str:
    """Accept an invitation with the sign-in of a source; return the path at which that starts.

    Raises:
        NotFound: as `read`; InvalidInput: for a source that does not own the domain of the email address.
    """
    with ctx.database.reading() as connection:
        row = _open(connection, secret)
        choice = next(
            (each for each in sign_in_start.choices_for(connection, row.email) if each.key == source), None
        )
    if choice is None:
        raise InvalidInput(f"'{source}' does not sign in this user.", "Reload the page.", "source")
    _activate(ctx, row, source, lambda _: None)
    return f"/sign-in?by={source}" if choice.by_code else choice.start


def _open(connection: Connection, secret: str) -> StoredInvitation:
    passwords.check_allowed(connection)
    row = stored.by_hash(connection, digest(secret))
    if row is None or row.status(clock.now()) != OPEN:
        contact = settings.support_contact(connection, {})
        raise NotFound(
            "This invitation is used, expired or withdrawn.",
            contact or "Sign in if you accepted it already, or ask for a new invitation.",
        )
    return row


def _activate(ctx: AppContext, row: StoredInvitation, with_: str, also: Callable[[Connection], None]) -> None:
    """Make the invited user active, with everything that belongs to the acceptance, in one transaction."""
    with ctx.database.reading() as connection:
        record = records.of_user(connection, row.user_id, LOCAL)
    if record is None:
        raise NotFound("This user does not exist any more.", "Ask for a new invitation.")

    def writes(_: IngestChange) -> Callable[[Connection], None]:
        def write(connection: Connection) -> None:
            if not stored.accept(connection, row, with_, clock.now()):
                raise NotFound("This invitation is used, expired or withdrawn.", "Open the newest email.")
            passwords.note(ctx, connection, (row.user_id, row.user_name), "accepted invitation")
            also(connection)

        return write

    Intake(ctx.database, ctx.catalogue, LOCAL).replace_user(
        record.source_id, record.id, {**record.data, "active": True}, IngestOptions(trace=writes)
    )
