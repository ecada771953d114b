"""Signing in by way of a source: where the browser goes, and what is made of what it brings back.

Whatever arrives is decided by `protocols`, goes through `arriving`, and is written down as a trace, also where it proves nobody.
"""

from __future__ import annotations

import base64
import binascii
import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import urlencode

import orjson
from sqlalchemy import Connection, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.claims import told_groups
from dravo.core.errors import DravoError
from dravo.core.instants import Instant, later
from dravo.core.names import fold
from dravo.core.records import SIGN_IN, searchable
from dravo.protocols.directory.reading import NOTED
from dravo.protocols.oidc import flow
from dravo.protocols.saml import requests
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.protocols.signing_in import Proved, SignInRefused
from dravo.services import (
    entrances,
    events,
    operator_links,
    operators,
    providers,
    pulling,
    refusals,
    settings,
    sign_in_keys,
    sign_in_settings,
    sign_in_sights,
    sign_in_traces,
    trials,
    visiting,
)
from dravo.services.arriving import Arrival, Arriving, Steps
from dravo.services.house import House
from dravo.services.operator_links import OPERATORS, PEOPLE
from dravo.services.permissions import Caller
from dravo.services.proving import TRANSIENT, Way, addresses, client_of, prove_oidc, prove_saml, seconds_of
from dravo.services.secrets import digest
from dravo.services.sign_in_settings import EVERYBODY, MAIL, OFF, PILOT, SAML
from dravo.services.sign_in_words import FOR_PEOPLE, STEP_OF, write_trace
from dravo.store import clock, pulled
from dravo.store import tables as t

BEGUN_SECONDS = 900
LARGEST_RESPONSE = 1024 * 1024
# What may be brought for 24 hours is remembered for longer than that, whatever the clocks.
LONGEST_REMEMBERED = 26 * 3_600.0
HOME = "/yours"
LINKED = "linked"


@dataclass(frozen=True)
class Start:
    """Where a browser goes to sign in: by an address, or by a form that it posts there; and what it keeps meanwhile."""

    url: str
    form: Mapping[str, str] | None
    browser: str


@dataclass
class Came:
    """What came of a sign-in, for the one who waits at the browser.

    Attributes:
        outcome: "in", "observed", "refused", or "linked" for an operator who is bound to it from now on.
        trace: by which number it can be looked up.
        visit: the secret of their visit, if they are in.
        session: the secret of their session, if they are an operator whom the source lets in.
        back: the page of ours to which they go on.
        message: for a person, why they are not in.
        whom_to_ask: whom they ask.
    """

    outcome: str
    trace: str
    visit: str = ""
    session: str = ""
    back: str = HOME
    message: str = ""
    whom_to_ask: str = ""


def safe_back(path: str | None) -> str:
    """Return the page of ours to which somebody goes after signing in: never another host, whatever is asked for."""
    if not path or not path.startswith("/") or path.startswith("//") or any(sign in path for sign in "\\\r\n\t") or len(path) > 500:
        return HOME
    return path


# Beginning


def start(
    house: House, key: str, base: str, trial: str | None = None, back: str | None = None, browser: str | None = None, operator: Caller | None = None
) -> Start:
    """Begin a sign-in.

    Args:
        trial: the secret of a trial's link.
        back: the page of ours to which the person goes after it.
        browser: by what this browser is known, if it is.
        operator: who binds themselves to whom it will prove, signed in as they are.

    Raises:
        NotFound; SignInRefused: "off", "trial", "settings".
    """
    with house.database.reading() as connection:
        source, row = sign_in_settings.of_source(connection, key)
        kept = trials.by_secret(connection, source.id, trial) if trial else None
        keys = sign_in_keys.of_source(house, connection, source.id)
        lacking = sign_in_settings.missing(connection, row)
        whom = settings.whom_to_ask(connection, row.settings)
    if trial and kept is None:
        raise SignInRefused("trial", "This trial is over, or was never one.", "Ask whoever sent you the link for another.")
    if operator is not None and row.serves == PEOPLE:
        raise SignInRefused("operator", f"No operator comes in by {source.label}.", "A chief operator can have it let operators in.")
    if row.state == OFF and kept is None and operator is None:
        raise SignInRefused("off", f"Signing in by {source.label} is not in force yet.", whom or "Wait until whoever runs this says so.")
    if lacking:
        raise refusals.unfinished(lacking)
    if row.protocol == MAIL:
        # The sign-in page asks for the address and sends the code; nothing is begun before that.
        return Start(f"{base}/sign-in?{urlencode({'by': key, **({'trial': trial} if trial else {})})}", None, browser or secrets.token_urlsafe(32))
    # A browser that has several pages open keeps one mark for all of them.
    state, browser = secrets.token_urlsafe(32), browser or secrets.token_urlsafe(32)
    begun: dict[str, Any] = {
        "state_hash": digest(state), "source_id": source.id, "browser_hash": digest(browser), "trial_id": kept.id if kept is not None else None,
        "operator_id": operator.operator_id if operator is not None else None, "back": safe_back(back), "begun_at": clock.now(),
        "until_at": later(clock.now(), BEGUN_SECONDS),
    }  # fmt: skip
    url, form = (_ask_saml if row.protocol == SAML else _ask_oidc)(house, row, key, base, state, keys, begun)
    with house.database.writing() as connection:
        connection.execute(insert(t.sign_in_begun).values(**begun))
        sign_in_sights.note(connection, source.id, sign_in_sights.STARTED)
    return Start(url, form, browser)


def _ask_saml(
    house: House, row: Any, key: str, base: str, state: str, keys: list[sign_in_keys.OurKey], begun: dict[str, Any]
) -> tuple[str, Mapping[str, str] | None]:
    ours = addresses(base, key)
    at = row.provider["sign_in"]
    binding = REDIRECT if REDIRECT in at else POST
    identifier = f"_{secrets.token_hex(20)}"
    signs = keys[0].key if keys and (row.settings["signs"] or row.provider.get("wants_signed")) else None
    asked = requests.sign_in_request(
        identifier, binding, at[binding], ours["entity_id"], ours["acs"], state, clock.now(), signs, anew=row.settings["anew"]
    )
    begun["request_id"] = identifier
    return asked.url, asked.form


def _ask_oidc(
    house: House, row: Any, key: str, base: str, state: str, keys: list[sign_in_keys.OurKey], begun: dict[str, Any]
) -> tuple[str, Mapping[str, str] | None]:
    nonce, verifier = secrets.token_urlsafe(24), secrets.token_urlsafe(48)
    begun["secret"] = house.keys.encrypt(orjson.dumps([nonce, verifier]).decode())
    client = client_of(house, row, key, base, keys)
    return flow.start(providers.oidc_provider(row.provider), client, state, nonce, verifier, anew=row.settings["anew"]), None


def where(house: House, email: str) -> dict[str, Any]:
    """Return by which source somebody signs in: the one that owns the domain of their e-mail, else the only one there is.

    Where several own it, they are choices.

    It says nothing of whether anybody has that address.
    """
    domain = fold(email.rpartition("@")[2].strip())
    with house.database.reading() as connection:
        s = t.source.c
        every = connection.execute(
            select(t.source_sign_in, s.key, s.label)
            .join(t.source, s.id == t.source_sign_in.c.source_id)
            .where(t.source_sign_in.c.state != OFF)
            .order_by(s.label)
        ).all()
    rows = [row for row in every if row.serves != OPERATORS]
    owning = [row for row in rows if domain and domain in sign_in_settings.policy_of(row).domains]
    found = owning[0] if len(owning) == 1 else rows[0] if len(rows) == 1 and not owning and email else None
    named = None if found is None else {"key": found.key, "label": found.label}
    operators_by = [{"key": row.key, "label": row.label} for row in every if row.serves != PEOPLE]
    by_code = found is not None and found.protocol == MAIL
    return {
        "choices": [_choice(row) for row in owning] if len(owning) > 1 else [],
        "source": named, "start": "" if found is None else f"/sso/{found.key}/start", "by_code": by_code, "any": bool(rows),
        "for_operators": operators_by,
    }  # fmt: skip


def _choice(row: Any) -> dict[str, Any]:
    return {"key": row.key, "label": row.label, "start": f"/sso/{row.key}/start", "by_code": row.protocol == MAIL}


# What comes back


def receive_saml(house: House, key: str, base: str, posted: Sequence[str] | SignInRefused, relay: str | None, browser: str | None) -> Came:
    """Take a SAML response (bindings, section 3.5), as a browser posts it.

    Args:
        posted: the fields of the form that are called SAMLResponse, as they came: there should be one. Or why the form was not read.

    Raises:
        NotFound: if nobody signs in by this source.
    """
    way = _way(house, key, base)

    def prove() -> Proved:
        _check_protocol(way, SAML)
        if isinstance(posted, SignInRefused):
            raise posted
        response = _decoded(posted)
        way.raw = sign_in_traces.without_proofs(response)
        return prove_saml(house, way, key, response, relay, browser)

    return through(house, way, prove)


def _decoded(posted: Sequence[str]) -> bytes:
    """Return a posted response; raises "malformed"."""
    if len(posted) != 1:
        raise SignInRefused("malformed", f"The form has {len(posted)} responses; it should have one.", "Have the provider send one (SAMLResponse).")
    if len(posted[0]) > LARGEST_RESPONSE:
        raise SignInRefused(
            "malformed", f"The response has {len(posted[0]):,} characters, which is too large.", "Have the provider send fewer claims."
        )
    try:
        return base64.b64decode("".join(posted[0].split()), validate=True)
    except (binascii.Error, ValueError):
        raise SignInRefused("malformed", "The response is not in base64.", "Check which address the provider sends to.") from None


def receive_oidc(house: House, key: str, base: str, query: Mapping[str, str], browser: str | None) -> Came:
    """Take what a browser brings back from an OpenID provider: a code, or why there is none (OpenID Connect Core 3.1.2.5, 3.1.2.6).

    Raises:
        NotFound: if nobody signs in by this source.
    """
    way = _way(house, key, base)

    def prove() -> Proved:
        _check_protocol(way, "oidc")
        return prove_oidc(house, way, key, query, browser)

    return through(house, way, prove)


def _way(house: House, key: str, base: str) -> Way:
    with house.database.reading() as connection:
        source, row = sign_in_settings.of_source(connection, key)
    return Way(source, row, base)


def _check_protocol(way: Way, protocol: str) -> None:
    """Make sure that a source speaks what came; raises "protocol"."""
    if way.row.protocol != protocol:
        speaks = sign_in_settings.PROTOCOLS[way.row.protocol]
        raise SignInRefused("protocol", f"'{way.source.label}' speaks {speaks}.", "Give the provider our other address.")


# What it comes to


def through(house: House, way: Way, prove: Callable[[], Proved]) -> Came:
    """Prove who somebody is, and let them in: as a person, as an operator, or as both; whatever came is written down."""
    sign_in_sights.note_apart(house, way.source.id, sign_in_sights.ANSWERED)
    try:
        way.proved = way.named = prove()
        _once(house, way)
        sign_in_sights.note_apart(house, way.source.id, sign_in_sights.PROVED)
        if way.begun is not None and way.begun.operator_id is not None:
            return _linked(house, way)
        operator = _operator(house, way)
        if operator is not None and way.row.serves == OPERATORS:
            return _entered(house, way, operator)
        try:
            _by_subject(way)
            way.arrival = _arrive(house, way)
        except SignInRefused as wrong:
            # Whoever is an operator too gets in as one, whatever they are as a person.
            if operator is None:
                raise
            way.steps.failed(STEP_OF.get(wrong.reason, "Checked"), wrong)
            return _entered(house, way, operator)
    except SignInRefused as wrong:
        return refused(house, way, wrong)
    except DravoError as wrong:
        return refused(house, way, SignInRefused(wrong.code.replace("_", " ")[:40], wrong.message, wrong.mend))
    came = _in(house, way)
    if operator is not None:
        came = replace(came, session=_begin_session(house, way, operator), back=_home_of_operators(came.back))
    return came


# Operators


def _linked(house: House, way: Way) -> Came:
    """Bind the operator who asked for it to whom the provider proved."""
    assert way.proved is not None
    _check_lasting(way)
    operator_links.link(house, way.begun.operator_id, way.source, way.proved)
    way.steps.note("Operator", "The operator who asked for it comes in by this from now on.")
    with house.database.writing() as connection:
        trace = write_trace(connection, way, sign_in_traces.IN, "An operator was linked to it.", "", None)
        _note_proved(connection, way)
    return Came(LINKED, trace, back=way.begun.back)


def _operator(house: House, way: Way) -> Any:
    """Return the operator whom this lets in, None if it is nobody who is one; never by a name, a trial, or what was not begun here."""
    if way.row.serves == PEOPLE or way.trial is not None:
        return None
    assert way.proved is not None
    found = operator_links.linked_to(house, way.source.id, way.proved) if way.begun is not None and way.row.state != OFF else None
    if found is not None:
        way.steps.note("Operator", f"It is the operator '{found.name}'.")
    elif way.row.serves == OPERATORS:
        raise SignInRefused(
            "operator", "No operator is linked to whom it proves.", "The operator signs in by password and links themselves under Settings."
        )
    return found


def _entered(house: House, way: Way, operator: Any) -> Came:
    _check_lasting(way)
    with house.database.writing() as connection:
        trace = write_trace(connection, way, sign_in_traces.IN, f"The operator '{operator.name}' is in.", "", None)
        _note_proved(connection, way)
    return Came(sign_in_traces.IN, trace, session=_begin_session(house, way, operator), back=_home_of_operators(way.begun.back))


def _begin_session(house: House, way: Way, operator: Any) -> str:
    assert way.named is not None
    _check_lasting(way)
    return operator_links.enter(house, way.source, operator, way.named)


def _home_of_operators(back: str) -> str:
    return "/" if back == HOME else back


def _check_lasting(way: Way) -> None:
    """Make sure that the provider's name for somebody stays theirs: an operator is bound to it for good."""
    if way.named is not None and way.named.format == TRANSIENT:
        mend = "Have it send a persistent NameID."
        raise SignInRefused("no subject", "The provider names the person anew each time (transient NameID).", mend)


def _once(house: House, way: Way) -> None:
    """Make sure that what was accepted is accepted once only; raises "replay"."""
    assert way.proved is not None
    mark, until = way.proved.once
    row = {"source_id": way.source.id, "once_hash": digest(mark), "until_at": _instant(until)}
    try:
        with house.database.writing() as connection:
            connection.execute(insert(t.sign_in_seen).values(**row))
    except IntegrityError:
        mend = "Begin anew; do not go back to an old page."
        raise SignInRefused("replay", "This very answer of the provider was brought before.", mend) from None
    way.steps.note("Seen once", "It was never brought before.")


def _instant(seconds: float) -> Instant:
    # Times are checked before: nothing is taken that counts for longer than the longest that can be set, and the clocks' difference.
    return later(clock.now(), max(60.0, min(seconds - seconds_of(clock.now()) + 300, LONGEST_REMEMBERED)))


def _by_subject(way: Way) -> None:
    """Have people be known by the claim that is set for that, in place of the provider's own subject."""
    name = way.row.settings.get("subject")
    if not name or way.proved is None:
        return
    values = [str(each) for known, some in way.proved.attributes.items() if fold(known) == fold(name) for each in some]
    if len(values) != 1 or not values[0].strip():
        mend = "Have the provider send it with one value, or choose another claim by which people are known."
        raise SignInRefused("no subject", f"The claim '{name}', by which people are known, came with {len(values)} values.", mend)
    way.proved = replace(way.proved, subject=values[0])


def _arrive(house: House, way: Way) -> Arrival:
    assert way.proved is not None
    policy, settings_ = sign_in_settings.policy_of(way.row), way.row.settings
    one = Arriving(
        house, way.source, policy, way.proved, way.steps, look_only=way.observes, says_verified=way.row.protocol != SAML,
        takes_groups=settings_["takes_groups"],
    )  # fmt: skip
    way.person = one.person()
    _check_trial(way)
    if way.row.serves == OPERATORS:
        return _tried_by_operator(house, way)
    _check_in_force(house, way, one)
    if not way.observes and settings_["refresh"]:
        _refresh(house, way)
    return one.take(way.person)


def _tried_by_operator(house: House, way: Way) -> Arrival:
    """See whether whoever tries is an operator; a trial lets nobody in, where only operators come in."""
    assert way.proved is not None
    found = operator_links.linked_to(house, way.source.id, way.named or way.proved)
    if found is not None:
        way.steps.note("Operator", f"It is the operator '{found.name}'.")
    else:
        mend = "The operator signs in by password and links themselves under Settings."
        way.steps.note("Operator", "No operator is linked to it yet.", NOTED, mend)
    return Arrival(None, "", way.person or {}, [], [])


def _refresh(house: House, way: Way) -> None:
    """Read this one person anew from the directory of the same source, if they are known by it: what it says is newer than its schedule."""
    assert way.person is not None
    r = t.record.c
    name = searchable(way.person).user_name_key
    with house.database.reading() as connection:
        where = (r.source_id == way.source.id, r.channel == pulled.PULL, r.user_name_key == name, r.gone_at.is_(None))
        user_id = connection.execute(select(r.user_id).where(*where)).scalar()
    if user_id is None:
        way.steps.note("Directory", "The directory of this source does not know them.", NOTED)
        return
    try:
        pulling.refresh(house, operators.SYSTEM, way.source.key, user_id)
        way.steps.note("Directory", "They were read anew from the directory of this source.")
    except DravoError as wrong:
        # Whoever proved who they are need not wait for a directory.
        way.steps.note("Directory", f"They could not be read anew: {wrong.message} What was known of them counts.", NOTED, wrong.mend)


def _check_trial(way: Way) -> None:
    """Make sure that whoever tries is the one for whom the trial is."""
    if way.trial is None or way.person is None:
        return
    found = searchable(way.person)
    if way.trial.person_key not in (fold(found.user_name), fold(found.email or "")):
        mend = "Try as the person who is named, or make a trial for this one."
        raise SignInRefused("another person", f"The trial is for '{way.trial.person}', and '{found.user_name}' came.", mend)
    way.steps.note("Trial", f"It is for '{way.trial.person}', {'to look only' if way.observes else 'for real'}.")


def _check_in_force(house: House, way: Way, one: Arriving) -> None:
    """Make sure that it counts for this person by now."""
    if way.trial is not None:
        return
    if way.row.state == EVERYBODY:
        return
    if way.row.state == PILOT and _in_pilot(house, way, one):
        way.steps.note("In force", f"They are in the pilot group '{way.row.settings['pilot']}'.")
        return
    raise refusals.not_in_pilot(way.row.settings["pilot"]) if way.row.state == PILOT else refusals.off()


def _in_pilot(house: House, way: Way, one: Arriving) -> bool:
    """Whether somebody is in the pilot group: by their claims, or as they are known here."""
    assert way.proved is not None
    wanted = fold(way.row.settings["pilot"])
    if wanted in {fold(each) for each in told_groups(one.policy, one.entry.attributes) or ()}:
        return True
    r = t.record.c
    with house.database.reading() as connection:
        where = (r.source_id == way.source.id, r.channel == SIGN_IN, r.native_id == way.proved.native_id)
        user_id = connection.execute(select(r.user_id).where(*where)).scalar()
        if user_id is None:
            return False
        return entrances.in_pilot(connection, way.source.id, way.row.settings["pilot"], user_id)


def _in(house: House, way: Way) -> Came:
    assert way.arrival is not None and way.proved is not None
    outcome = sign_in_traces.OBSERVED if way.observes else sign_in_traces.IN
    words = "It would work: nothing was changed." if way.observes else "They are in."
    secret = ""
    with house.database.writing() as connection:
        hours = settings.read(connection)["visit_hours"]
        trace = write_trace(connection, way, outcome, words, "", None)
        _note_proved(connection, way)
        if not way.observes and way.arrival.user_id is not None:
            secret = visiting.begin(connection, way.arrival.user_id, way.source.id, way.named or way.proved, hours)
            sign_in_sights.note(connection, way.source.id, sign_in_sights.PERSON)
        if way.arrival.groups:
            sign_in_sights.note(connection, way.source.id, sign_in_sights.GROUPS)
    back = way.begun.back if way.begun is not None else HOME
    return Came(outcome, trace, secret, back)


def _note_proved(connection: Connection, way: Way) -> None:
    """Note that somebody came through the present settings to the end."""
    connection.execute(update(t.source_sign_in).where(t.source_sign_in.c.source_id == way.source.id).values(proved_at=clock.now()))


def refused(house: House, way: Way, wrong: SignInRefused) -> Came:
    """Write down that somebody is not let in, and why; whoever waits is told no more than helps them."""
    way.steps.failed(STEP_OF.get(wrong.reason, "Checked"), wrong)
    with house.database.writing() as connection:
        trace = write_trace(connection, way, sign_in_traces.REFUSED, wrong.message, wrong.mend, wrong.reason)
        whom = settings.whom_to_ask(connection, way.row.settings)
    events.note(events.SIGN_IN, "user", source=way.source.key, reason=wrong.reason, trace=trace)
    return Came(sign_in_traces.REFUSED, trace, message=FOR_PEOPLE.get(wrong.reason, FOR_PEOPLE[""]), whom_to_ask=whom)


# Planning a kept trace again


def plan_again(house: House, key: str, trace_id: str, policy: dict[str, Any] | None = None) -> dict[str, Any]:
    """Return what a kept sign-in would come to now, or with other answers: nothing is changed.

    Raises:
        NotFound; SignInRefused: where the trace holds nobody, or they would be refused.
    """
    with house.database.reading() as connection:
        source, row = sign_in_settings.of_source(connection, key)
        kept = sign_in_traces.one_row(connection, key, trace_id)
    steps = Steps()
    arrived = kept.arrived
    if not arrived:
        raise SignInRefused("nobody", "This trace proves nobody, so that there is nothing to plan.", "Take one in which attributes arrived.")
    proved = Proved(arrived["issuer"], arrived["subject"], arrived["attributes"])
    answers = sign_in_settings.policy_with(row, policy or {})
    one = Arriving(
        house, source, answers, proved, steps, look_only=True, says_verified=row.protocol != SAML, takes_groups=row.settings["takes_groups"]
    )
    try:
        arrival = one.take(one.person())
    except SignInRefused as wrong:
        steps.failed(STEP_OF.get(wrong.reason, "Checked"), wrong)
        return {
            "outcome": sign_in_traces.REFUSED,
            "message": wrong.message,
            "mend": wrong.mend,
            "steps": steps.lines,
            **Arrival(None, "", {}, [], []).document(),
        }
    return {"outcome": sign_in_traces.OBSERVED, "message": "It would work.", "mend": "", "steps": steps.lines, **arrival.document()}
