"""Signing in by way of a source: where the browser goes, and what is made of what it brings back.

Whatever arrives is decided by `protocols`, goes through `arriving`, and is written down as a trace, also where it proves nobody.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import orjson
from sqlalchemy import Connection, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.claims import told_groups
from dravo.core.errors import DravoError
from dravo.core.instants import Instant, later
from dravo.core.records import SIGN_IN, fold, searchable
from dravo.protocols.directory.reading import NOTED
from dravo.protocols.oidc import flow
from dravo.protocols.saml import requests
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.protocols.signing_in import Proved, SignInRefused
from dravo.services import (
    arriving,
    operators,
    providers,
    pulling,
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
from dravo.services.proving import Way, addresses, client_of, prove_oidc, prove_saml, seconds_of
from dravo.services.secrets import digest
from dravo.services.sign_in_settings import EVERYBODY, OFF, PILOT, SAML
from dravo.store import clock, pulled
from dravo.store import tables as t

BEGUN_SECONDS = 900
HOME = "/yours"


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
        outcome: "in", "observed" or "refused".
        trace: by which number it can be looked up.
        visit: the secret of their visit, if they are in.
        back: the page of ours to which they go on.
        message: for a person, why they are not in.
        whom_to_ask: whom they ask.
    """

    outcome: str
    trace: str
    visit: str = ""
    back: str = HOME
    message: str = ""
    whom_to_ask: str = ""


def safe_back(path: str | None) -> str:
    """Return the page of ours to which somebody goes after signing in: never another host, whatever is asked for."""
    if not path or not path.startswith("/") or path.startswith("//") or any(sign in path for sign in "\\\r\n\t") or len(path) > 500:
        return HOME
    return path


# Beginning


def start(house: House, key: str, base: str, trial: str | None = None, back: str | None = None, browser: str | None = None) -> Start:
    """Begin a sign-in.

    Args:
        trial: the secret of a trial's link.
        back: the page of ours to which the person goes after it.
        browser: by what this browser is known, if it is.

    Raises:
        NotFound; SignInRefused: "off", "trial", "settings".
    """
    with house.database.reading() as connection:
        source, row = sign_in_settings.of_source(connection, key)
        kept = trials.by_secret(connection, source.id, trial) if trial else None
        keys = sign_in_keys.of_source(house, connection, source.id)
    if trial and kept is None:
        raise SignInRefused("trial", "This trial is over, or was never one.", "Ask whoever sent you the link for another.")
    if row.state == OFF and kept is None:
        raise SignInRefused("off", f"Signing in by {source.label} is not in force yet.", "Wait until whoever runs this says so.")
    if lacking := sign_in_settings.missing(row):
        raise SignInRefused("settings", f"Missing yet: {', '.join(lacking)}.", "Fill it in on the exchange sheet.")
    # A browser that has several pages open keeps one mark for all of them.
    state, browser = secrets.token_urlsafe(32), browser or secrets.token_urlsafe(32)
    begun: dict[str, Any] = {
        "state_hash": digest(state), "source_id": source.id, "browser_hash": digest(browser), "trial_id": kept.id if kept is not None else None,
        "back": safe_back(back), "until_at": later(clock.now(), BEGUN_SECONDS),
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

    It says nothing of whether anybody has that address.
    """
    domain = fold(email.rpartition("@")[2].strip())
    with house.database.reading() as connection:
        s = t.source.c
        rows = connection.execute(
            select(t.source_sign_in, s.key, s.label).join(t.source, s.id == t.source_sign_in.c.source_id).where(t.source_sign_in.c.state != OFF)
        ).all()
    owning = [row for row in rows if domain and domain in sign_in_settings.policy_of(row).domains]
    found = owning[0] if len(owning) == 1 else rows[0] if len(rows) == 1 and not owning and email else None
    named = None if found is None else {"key": found.key, "label": found.label}
    return {"source": named, "start": "" if found is None else f"/sso/{found.key}/start", "any": bool(rows)}


# What comes back


def receive_saml(house: House, key: str, base: str, response: bytes, relay: str | None, browser: str | None) -> Came:
    """Take a SAML response (bindings, section 3.5), as a browser posts it.

    Args:
        response: decoded from base64.

    Raises:
        NotFound: if nobody signs in by this source.
    """
    way = _way(house, key, base, SAML)
    way.raw = sign_in_traces.without_proofs(response)
    return _through(house, way, lambda: prove_saml(house, way, key, response, relay, browser))


def receive_oidc(house: House, key: str, base: str, query: Mapping[str, str], browser: str | None) -> Came:
    """Take what a browser brings back from an OpenID provider: a code, or why there is none (OpenID Connect Core 3.1.2.5, 3.1.2.6).

    Raises:
        NotFound: if nobody signs in by this source.
    """
    way = _way(house, key, base, "oidc")
    return _through(house, way, lambda: prove_oidc(house, way, key, query, browser))


def _way(house: House, key: str, base: str, protocol: str) -> Way:
    with house.database.reading() as connection:
        source, row = sign_in_settings.of_source(connection, key)
    if row.protocol != protocol:
        raise SignInRefused(
            "protocol", f"'{source.label}' speaks {sign_in_settings.PROTOCOLS[row.protocol]}.", "Give the provider our other address."
        )
    return Way(source, row, base)


# What it comes to


def _through(house: House, way: Way, prove: Any) -> Came:
    sign_in_sights.note_apart(house, way.source.id, sign_in_sights.ANSWERED)
    try:
        way.proved = way.named = prove()
        _once(house, way)
        _by_subject(way)
        sign_in_sights.note_apart(house, way.source.id, sign_in_sights.PROVED)
        way.arrival = _arrive(house, way)
    except SignInRefused as wrong:
        return _refused(house, way, wrong)
    except DravoError as wrong:
        return _refused(house, way, SignInRefused(wrong.code.replace("_", " ")[:40], wrong.message, wrong.mend))
    return _in(house, way)


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
    # Times are checked before; what claims to count for ever is remembered for a day.
    return later(clock.now(), max(60.0, min(seconds - seconds_of(clock.now()) + 300, 86_400.0)))


def _by_subject(way: Way) -> None:
    """Have people be known by the claim that is set for that, in place of the provider's own subject."""
    name = way.row.settings["subject"]
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
    _check_in_force(house, way, one)
    if not way.observes and settings_["refresh"]:
        _refresh(house, way)
    return one.take(way.person)


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
    if way.trial.person_key not in (found.user_name_key, fold(found.email or "")):
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
    if way.row.state == PILOT:
        message = f"They are not in the pilot group '{way.row.settings['pilot']}'."
        raise SignInRefused("pilot", message, "Wait until it is in force for everybody, or be put into that group.")
    raise SignInRefused("off", "Signing in by this source is not in force.", "Put it in force, or make a trial.")


def _in_pilot(house: House, way: Way, one: Arriving) -> bool:
    """Whether somebody is in the pilot group: by their claims, or as they are known here."""
    assert way.proved is not None
    wanted = fold(way.row.settings["pilot"])
    if wanted in {fold(each) for each in told_groups(one.policy, one.entry.attributes) or ()}:
        return True
    r, m, g = t.record.c, t.membership.c, t.group.c
    with house.database.reading() as connection:
        where = (r.source_id == way.source.id, r.channel == SIGN_IN, r.native_id == arriving.native_id_of(way.proved))
        user_id = connection.execute(select(r.user_id).where(*where)).scalar()
        if user_id is None:
            return False
        theirs = select(r.id).where(r.user_id == user_id)
        statement = (
            select(g.id)
            .join(t.membership, m.group_id == g.id)
            .where(
                m.until_at.is_(None), g.gone_at.is_(None), (g.display_name_key == wanted) | (g.id == way.row.settings["pilot"]),
                (g.source_id == way.source.id) | g.source_id.is_(None), m.record_id.in_(theirs) | (m.user_id == user_id),
            )
            .limit(1)
        )  # fmt: skip
        return connection.execute(statement).first() is not None


def _in(house: House, way: Way) -> Came:
    assert way.arrival is not None and way.proved is not None
    outcome = sign_in_traces.OBSERVED if way.observes else sign_in_traces.IN
    words = "It would work: nothing was changed." if way.observes else "They are in."
    secret = ""
    with house.database.writing() as connection:
        hours = settings.read(connection)["visit_hours"]
        trace = _write(connection, way, outcome, words, "", None)
        values = {"proved_at": clock.now()}
        connection.execute(update(t.source_sign_in).where(t.source_sign_in.c.source_id == way.source.id).values(**values))
        if not way.observes and way.arrival.user_id is not None:
            secret = visiting.begin(connection, way.arrival.user_id, way.source.id, way.named or way.proved, hours)
            sign_in_sights.note(connection, way.source.id, sign_in_sights.PERSON)
        if way.arrival.groups:
            sign_in_sights.note(connection, way.source.id, sign_in_sights.GROUPS)
    back = way.begun.back if way.begun is not None else HOME
    return Came(outcome, trace, secret, back)


def _refused(house: House, way: Way, wrong: SignInRefused) -> Came:
    way.steps.failed(_STEP_OF.get(wrong.reason, "Checked"), wrong)
    with house.database.writing() as connection:
        trace = _write(connection, way, sign_in_traces.REFUSED, wrong.message, wrong.mend, wrong.reason)
        house_wide = settings.read(connection)["whom_to_ask"]
    whom = way.row.settings.get("whom_to_ask") or house_wide
    return Came(sign_in_traces.REFUSED, trace, message=FOR_PEOPLE.get(wrong.reason, FOR_PEOPLE[""]), whom_to_ask=whom)


# By the reason of a refusal, the step at which it stands in the trace.
_STEP_OF = {
    "certificate": "Signature",
    "signature": "Signature", "unsigned": "Signature", "algorithm": "Signature", "key": "Signature", "audience": "Meant for us, now",
    "recipient": "Meant for us, now", "destination": "Meant for us, now", "issuer": "Meant for us, now", "early": "Meant for us, now",
    "expired": "Meant for us, now", "in response to": "Asked for", "state": "Asked for", "browser": "Asked for", "replay": "Seen once",
    "status": "Arrived", "malformed": "Arrived", "encryption": "Arrived", "expressions": "Expressions", "outside": "May come in",
    "conflict": "Whose it is", "not known": "Whose it is", "inactive": "Whose it is", "pilot": "In force", "off": "In force",
    "another person": "Trial", "no subject": "Attributes", "code": "Token", "userinfo": "Userinfo",
}  # fmt: skip
# And what a person is told, who can mend nothing of it: no more than that, and never what would help to guess.
FOR_PEOPLE = {
    "": "Your sign-in could not be accepted.",
    "conflict": "Somebody has to confirm first who you are here.",
    "not known": "You are not known here.",
    "outside": "You may not come in here.",
    "inactive": "You may not come in here any more.",
    "pilot": "Signing in this way is not open for you yet.",
    "off": "Signing in this way is not open yet.",
    "another person": "This link is for somebody else.",
    "browser": "Please begin again, and stay in one browser.",
    "in response to": "Please begin again from our own page.",
    "state": "Please begin again from our own page.",
    "replay": "This page was used before. Please begin again.",
    "expired": "It took too long. Please begin again.",
    "status": "Your own sign-in service did not let you through.",
}


def _write(connection: Connection, way: Way, outcome: str, message: str, mend: str, reason: str | None) -> str:
    proved, arrival = way.proved, way.arrival
    tried_by = way.trial.person if way.trial is not None else "somebody"
    name = searchable(way.person).display_name if way.person else proved.subject if proved else tried_by
    arrived: dict[str, Any] = {}
    if proved is not None:
        plain = {name: list(values) for name, values in proved.attributes.items()}
        arrived = {"issuer": proved.issuer, "subject": proved.subject, "attributes": plain}
    came_to = arrival.document() if arrival is not None else {"made": way.person} if way.person else {}
    return sign_in_traces.write(
        connection,
        {
            "source_id": way.source.id, "trial_id": way.trial.id if way.trial is not None else None, "outcome": outcome, "reason": reason,
            "message": message, "mend": mend, "name": name[:300], "user_id": arrival.user_id if arrival is not None else None,
            "steps": way.steps.lines, "arrived": arrived, "came_to": came_to, "raw": way.raw or None,
        },
    )  # fmt: skip


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
        steps.failed(_STEP_OF.get(wrong.reason, "Checked"), wrong)
        return {
            "outcome": sign_in_traces.REFUSED,
            "message": wrong.message,
            "mend": wrong.mend,
            "steps": steps.lines,
            **Arrival(None, "", {}, [], []).document(),
        }
    return {"outcome": sign_in_traces.OBSERVED, "message": "It would work.", "mend": "", "steps": steps.lines, **arrival.document()}
