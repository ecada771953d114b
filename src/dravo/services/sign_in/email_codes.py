"""Sign-in by an emailed code (J8): the code verifies the address, and the same rules apply as with a
provider.

Nobody learns whether an address is known here before entering its code.
"""

from __future__ import annotations

import hmac
import secrets
from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.identity.claims import REGISTERED
from dravo.core.identity.names import fold
from dravo.core.instants import later
from dravo.protocols.smtp import check_address
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.context import AppContext
from dravo.services.notifications import messages
from dravo.services.notifications.mail_texts import SIGN_IN_CODE
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.secrets import digest
from dravo.services.sign_in import responses as sign_in_responses
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in import test_sign_ins
from dravo.services.sign_in.messages import FOR_USERS
from dravo.services.sign_in.responses import SignInResult
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.settings.protocols import MAIL
from dravo.services.sign_in.settings.settings import DISABLED
from dravo.services.sign_in.verification import SignInAttempt, seconds_of
from dravo.services.sources import observations
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.sign_in import requests
from dravo.store.sign_in import settings as sign_in_rows
from dravo.store.sign_in import users as sign_in_users
from dravo.store.sign_in.requests import StoredTest
from dravo.store.sources import settings as source_settings
from dravo.store.sources import sources as source_rows
from dravo.store.sources.settings import SourceSignIn
from dravo.store.sources.sources import Source

# Eight digits, five attempts, ten minutes: guessing does not succeed.
DIGITS, TRIES, SECONDS = 8, 5, 600
# The issuer of emailed codes, which Dravo itself verifies; no provider has a name with spaces.
ISSUER = "emailed code"
# Maximum number of emails to one address within 15 minutes, wherever they are requested.
LETTERS, LETTERS_SECONDS = 6, 900


class NamesNeeded(InvalidInput):
    """The code is right, and a new user must enter given name and family name first."""

    code = "names_needed"


@dataclass(frozen=True)
class Asked:
    """A requested code: the secret that identifies the request, and the browser that made it."""

    state: str
    browser: str
    source: str
    minutes: int


@dataclass(frozen=True)
class CodeRequest:
    """A request for a code.

    Attributes:
        email: the address to which the code goes.
        network: the address of the network that asks.
        browser: the value of the browser's cookie, or None.
        sign_in_test: the secret of a test sign-in's link, or None.
        back: the page to which the user goes after signing in.
        source: the key of the chosen source, where several own the domain.
    """

    email: str
    network: str
    browser: str | None = None
    sign_in_test: str | None = None
    back: str | None = None
    source: str | None = None


@dataclass(frozen=True)
class EnteredCode:
    """A code that a user entered, with the names that a new user enters.

    Attributes:
        state: the secret that `Asked` gave to the browser.
        code: the code as typed.
        browser: the value of the browser's cookie, or None.
        given_name, family_name: the names of a new user.
    """

    state: str
    code: str
    browser: str | None
    given_name: str = ""
    family_name: str = ""


def ask(ctx: AppContext, limiter: RateLimiter, base: str, wanted: CodeRequest) -> Asked:
    """Email a code to an address, if it may sign in; the result is the same if it may not.

    Args:
        ctx: the data folder.
        limiter: limits the emails to one address from one network, so that others cannot use up the limit
            of an address.
        base: the public address of the service.
        wanted: the request.

    Raises:
        InvalidInput: for a value that is not an address.
        NotFound: if no source offers codes to the domain.
        TooManyTries.
    """
    address, browser = fold(check_address(wanted.email, "email")), wanted.browser
    mark = f"{address} from {wanted.network}"
    limiter.check(mark)
    with ctx.database.reading() as connection:
        found = _source_for(connection, address, wanted.sign_in_test, wanted.source)
        if found is None:
            raise NotFound(FOR_USERS["no_code"], "Check the spelling of the address.")
        source_row, row, kept = found
        sends = _may_ask(connection, source_row, row, address) or kept is not None
    limiter.failed(mark)
    state, browser = secrets.token_urlsafe(32), browser or secrets.token_urlsafe(32)
    code = f"{secrets.randbelow(10**DIGITS):0{DIGITS}}"
    begun: dict[str, Any] = {
        "state_hash": digest(state),
        "source_id": source_row.id,
        "browser_hash": digest(browser),
        "test_id": kept.id if kept is not None else None,
        "secret": ctx.keys.encrypt(orjson.dumps([address, code]).decode()),
        "back": sign_in_start.safe_back(wanted.back),
        "begun_at": clock.now(),
        "until_at": later(clock.now(), SECONDS),
    }
    with ctx.database.writing() as connection:
        requests.insert_request(connection, begun)
        if sends:
            content = ("Your sign-in code", _letter(code, base))
            messages.write_email(ctx, connection, SIGN_IN_CODE, address, content, SECONDS)
            observations.note(connection, source_row.id, observations.STARTED)
    return Asked(state, browser, source_row.label, SECONDS // 60)


def _letter(code: str, base: str) -> str:
    half = DIGITS // 2
    return (
        f"Your sign-in code for {base}:\n\n    {code[:half]} {code[half:]}\n\n"
        f"Enter it within {SECONDS // 60} minutes, in the browser in which you requested it. The code "
        "works once.\n"
        "Do not share it. If you did not request this code, ignore this email.\n"
    )


def _source_for(
    connection: Connection, address: str, sign_in_test: str | None, chosen: str | None
) -> tuple[Source, SourceSignIn, StoredTest | None] | None:
    """Return (source, sign-in settings, test sign-in) of the one source that owns the domain of an address
    and offers codes; None if no source does.

    Args:
        chosen: the key of the chosen source, where several own the domain.
    """
    domain = address.rpartition("@")[2]
    rows = [each for each in sign_in_rows.list_sign_ins(connection) if each.protocol == MAIL]
    owning = [
        row
        for row in rows
        if domain in source_policies.sign_in_policy(row).domains
        and not sign_in_settings.missing(connection, row)
    ]
    for row in owning:
        if (
            sign_in_test
            and (kept := test_sign_ins.by_secret(connection, row.source_id, sign_in_test)) is not None
        ):
            return *_with_source(connection, row), kept
    enabled = [row for row in owning if row.status != DISABLED and chosen in (None, row.key)]
    return (*_with_source(connection, enabled[0]), None) if len(enabled) == 1 else None


def _with_source(connection: Connection, row: SourceSignIn) -> tuple[Source, SourceSignIn]:
    return source_rows.by_id(connection, row.source_id), row


def _may_ask(connection: Connection, source: Source, row: SourceSignIn, address: str) -> bool:
    """Whether a code is emailed: to known addresses, and to all of the domain where users can register."""
    return source_policies.sign_in_policy(row).makes or _is_known(connection, source.id, address)


def _is_known(connection: Connection, source_id: str, address: str) -> bool:
    return sign_in_users.record_of_subject(
        connection, source_id, _native_id(address)
    ) is not None or sign_in_users.has_email(connection, address)


def _native_id(address: str) -> str:
    return VerifiedIdentity(ISSUER, address).native_id


def verify(ctx: AppContext, base: str, entered: EnteredCode) -> SignInResult:
    """Verify a code and sign the user in.

    Raises:
        NotFound: if the code expired or was requested in another browser.
        InvalidInput: if the code is wrong.
        NamesNeeded: if the user is new and entered no names.
    """
    state, browser = entered.state, entered.browser
    with ctx.database.writing() as connection:
        begun = requests.get(connection, digest(state))
        if (
            begun is None
            or begun.until_at <= clock.now()
            or not browser
            or digest(browser) != begun.browser_hash
        ):
            raise NotFound(
                "The code has expired or belongs to another browser.",
                "Request a new code and enter it in the same browser.",
            )
        source, row = _with_source(connection, _sign_in_of(connection, begun.source_id))
        address, expected = orjson.loads(ctx.keys.decrypt(begun.secret or ""))
        fits = hmac.compare_digest(
            "".join(entered.code.split()).encode("utf-8", "replace"), expected.encode()
        )
        if not fits:
            left = TRIES - begun.tries - 1
            requests.note_tries(connection, digest(state), begun.tries + 1)
            if left <= 0:
                requests.delete_request(connection, digest(state))
    if not fits:
        hint = f"Enter the code again. Attempts left: {left}." if left > 0 else "Request a new code."
        raise InvalidInput("The code is wrong.", hint, "code")
    with ctx.database.reading() as connection:
        registers = source_policies.sign_in_policy(row).makes and not _is_known(
            connection, source.id, address
        )
    names = (entered.given_name.strip(), entered.family_name.strip())
    if registers and not all(names):
        raise NamesNeeded(
            "Your name is missing.", "Enter your given name and your family name.", "given_name"
        )
    way = SignInAttempt(source, row, base, begun)
    attributes = _use_up(ctx, way, address)
    if registers:
        attributes |= {
            "given_name": [names[0]],
            "family_name": [names[1]],
            "name": [" ".join(names)],
            REGISTERED: [row.settings["new_user_group"]],
        }
    return _complete(ctx, way, address, attributes, registers=registers)


def _sign_in_of(connection: Connection, source_id: str) -> SourceSignIn:
    row = source_settings.sign_in_of(connection, source_id)
    if row is None:
        raise NotFound("Sign-in with a code is disabled.", "Contact the user who invited you.")
    return row


def _use_up(ctx: AppContext, way: SignInAttempt, address: str) -> dict[str, list[Any]]:
    """Use up the code, note the test sign-in that it belongs to, and return the claims about the address.

    Raises:
        NotFound: if the code was used already.
    """
    begun = way.request
    with ctx.database.writing() as connection:
        if not requests.delete_request(connection, begun.state_hash):
            raise NotFound("The code has been used already.", "Request a new code.")
        if begun.test_id:
            way.sign_in_test = requests.test_by_id(connection, begun.test_id)
        return _attributes(connection, way.source.id, address)


def _complete(
    ctx: AppContext, way: SignInAttempt, address: str, attributes: dict[str, list[Any]], *, registers: bool
) -> SignInResult:
    row, begun = way.row, way.request

    def prove() -> VerifiedIdentity:
        if row.protocol != MAIL:
            raise SignInRefused(
                "disabled", "The protocol of this source has changed.", "Start the sign-in again."
            )
        way.steps.note("Code", f"The code sent to {address} was entered.")
        if registers:
            way.steps.note(
                "Registered",
                "New user with a name entered at sign-in. Group for new users: "
                f"'{row.settings['new_user_group']}'.",
            )
        return VerifiedIdentity(
            ISSUER, address, attributes, once=(begun.state_hash, seconds_of(begun.until_at))
        )

    return sign_in_responses.complete_sign_in(ctx, way, prove)


def _attributes(connection: Connection, source_id: str, address: str) -> dict[str, list[Any]]:
    """Return the claims of an address: what the user entered at registration, and the address itself."""
    record = sign_in_users.record_of_subject(connection, source_id, _native_id(address))
    kept = (record.reported if record is not None else None) or {}
    said = {name: kept[name] for name in ("given_name", "family_name", "name", REGISTERED) if kept.get(name)}
    return {**said, "email": [address], "email_verified": [True]}
