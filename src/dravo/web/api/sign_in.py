"""Signing in by sources: settings with the exchange sheet, trials, traces, and what visitors are told."""

from __future__ import annotations

import hmac
from typing import Any

from flask import Response, current_app, jsonify, request

from dravo.core.errors import NotPermitted, NotSignedIn
from dravo.services import (
    claimed_groups,
    entrances,
    mail_codes,
    mailing,
    sign_in_settings,
    sign_in_sheet,
    sign_in_traces,
    signing_in,
    signing_out,
    trials,
    visiting,
)
from dravo.services.rate_limits import Limiter
from dravo.services.sign_in_traces import IN
from dravo.services.visiting import Visitor
from dravo.web import cookies
from dravo.web.api import asked as q
from dravo.web.api import asked_sign_in as a
from dravo.web.api.describing import answers
from dravo.web.api.door import CSRF_HEADER, ask, caller, house, needs, room
from dravo.web.callers import place
from dravo.web.sso.routes import visitor

rooms = room("signing in")


def _base() -> str:
    return str(current_app.config["PUBLIC_URL"])


@rooms.get("/sources/<key>/sign-in", responses=answers("sign_in_models.SignIn"))
@needs("sources.read")
def get_sign_in(path: q.KeyPath) -> dict[str, Any]:
    """How people sign in by a source, with its exchange sheet."""
    return sign_in_sheet.shown(house(), caller(), path.key, _base())


@rooms.put("/sources/<key>/sign-in", responses=answers("sign_in_models.SignIn"))
@needs("sources.change")
def change_sign_in(path: q.KeyPath, body: a.SignInSettingsBody) -> dict[str, Any]:
    """Set how people sign in by a source; what is left out stays, what is missing does not stand in the way."""
    sign_in_settings.change(house(), caller(), path.key, body.model_dump())
    return sign_in_sheet.shown(house(), caller(), path.key, _base())


@rooms.delete("/sources/<key>/sign-in", responses={204: None})
@needs("sources.change")
def forget_sign_in(path: q.KeyPath) -> Response:
    """Have nobody sign in by a source any more; whom it brought stay."""
    sign_in_settings.forget(house(), caller(), path.key)
    return Response(status=204)


@rooms.post("/sources/<key>/sign-in/state", responses=answers("sign_in_models.SignIn"))
@needs("sources.change")
def set_sign_in_state(path: q.KeyPath, body: a.StateBody) -> dict[str, Any]:
    """Set for whom signing in is in force: nobody, the pilot group, everybody; at once or from an hour on."""
    sign_in_settings.set_state(house(), caller(), path.key, body.state, body.everybody_at, body.confirm)
    return sign_in_sheet.shown(house(), caller(), path.key, _base())


@rooms.post("/sources/<key>/sign-in/certificates", responses=answers("sign_in_models.SignIn"))
@needs("sources.change")
def use_certificates(path: q.KeyPath) -> dict[str, Any]:
    """Take over the certificates that the provider's metadata has now."""
    sign_in_settings.use_waiting_certificates(house(), caller(), path.key)
    return sign_in_sheet.shown(house(), caller(), path.key, _base())


@rooms.post("/sources/<key>/sign-in/keys", responses=answers("sign_in_models.SignIn"))
@needs("sources.change")
def change_keys(path: q.KeyPath, body: a.KeysBody) -> dict[str, Any]:
    """Change our own key without a gap."""
    sign_in_settings.change_keys(house(), caller(), path.key, body.what)
    return sign_in_sheet.shown(house(), caller(), path.key, _base())


@rooms.get("/sources/<key>/sign-in/trials", responses=answers("sign_in_models.PageOfTrials"))
@needs("sources.read")
def list_trials(path: q.KeyPath, query: q.PageQuery) -> dict[str, Any]:
    """Trials, newest first."""
    return trials.listing(house(), path.key, ask(query))


@rooms.post("/sources/<key>/sign-in/trials", responses=answers("sign_in_models.NewTrial", 201))
@needs("sources.change")
def begin_trial(path: q.KeyPath, body: a.TrialBody) -> tuple[dict[str, Any], int]:
    """Let one named person try to sign in for some minutes; the link is in the answer, the only time."""
    return trials.begin(house(), caller(), path.key, body.person, body.mode, _base(), body.minutes), 201


@rooms.get("/sources/<key>/sign-in/traces", responses=answers("sign_in_models.PageOfSignIns"))
@needs("sources.read")
def list_sign_ins(path: q.KeyPath, query: a.TracesQuery) -> dict[str, Any]:
    """What sign-ins came to, newest first."""
    return sign_in_traces.listing(house(), path.key, ask(query), query.outcome, query.trial, query.q)


@rooms.get("/sources/<key>/sign-in/traces/<trace>", responses=answers("sign_in_models.SignInTrace"))
@needs("sources.read")
def get_sign_in_trace(path: a.SignInTracePath) -> dict[str, Any]:
    """One sign-in whole: its steps, what arrived, and what it came to."""
    return sign_in_traces.one(house(), caller(), path.key, path.trace)


@rooms.post("/sources/<key>/sign-in/traces/<trace>/again", responses=answers("sign_in_models.PlannedSignIn"))
@needs("attributes.read")
def plan_again(path: a.SignInTracePath, body: a.PlanAgainBody) -> dict[str, Any]:
    """What a kept sign-in would come to now, or with other answers; nothing is changed."""
    return signing_in.plan_again(house(), path.key, path.trace, body.policy)


@rooms.get("/claimed-groups", responses=answers("sign_in_models.GroupsInClaims"))
@needs("people.read")
def list_claimed_groups(query: a.ClaimedQuery) -> dict[str, Any]:
    """Groups that sign-ins claimed, trials too, and that their source does not have yet."""
    return claimed_groups.seen(house(), query.q)


@rooms.post("/sources/<key>/sign-in/groups", responses=answers("sign_in_models.GroupMadeAhead", 201))
@needs("groups.change")
def make_claimed_group(path: q.KeyPath, body: a.ClaimedGroupBody) -> tuple[dict[str, str], int]:
    """Make a group of a source by the name in its claims, to be mapped before anybody comes."""
    return claimed_groups.make(house(), caller(), path.key, body.name), 201


@rooms.get("/people/<person>/visits", responses=answers("sign_in_models.Visits"))
@needs("people.read")
def list_visits(path: q.PersonPath) -> dict[str, Any]:
    """Where a person is signed in to see what is theirs."""
    return visiting.of_person(house(), path.person)


@rooms.get("/people/<person>/ways", responses=answers("sign_in_models.Ways"))
@needs("people.read")
def list_ways(path: q.PersonPath) -> dict[str, Any]:
    """By which ways a person could sign in now, what they would be told, and what they would see."""
    return entrances.of_person(house(), path.person)


@rooms.delete("/people/<person>/visits", responses=answers("sign_in_models.Visits"))
@needs("people.change")
def end_visits(path: q.PersonPath) -> dict[str, Any]:
    """End every visit of a person."""
    return visiting.end_of_person(house(), caller(), path.person)


# Mail


@rooms.get("/mail", responses=answers("models.MailSettings"))
@needs("audit.read")
def get_mail() -> dict[str, Any]:
    """By which server mail goes, and how it went last."""
    return mailing.shown(house())


@rooms.put("/mail", responses=answers("models.MailSettings"))
@needs("settings.change")
def change_mail(body: a.MailBody) -> dict[str, Any]:
    """Set by which server mail goes; what is left out stays."""
    return mailing.change(house(), caller(), body.model_dump())


@rooms.post("/mail/test", responses=answers("models.MailTested"))
@needs("settings.change")
def test_mail(body: a.TestMailBody) -> dict[str, Any]:
    """Send one letter now, and say what is wrong if it is not taken."""
    return mailing.test(house(), caller(), body.to)


# What everybody else sees


@rooms.get("/sign-in", responses=answers("sign_in_models.Where"))
@needs("nothing")
def where_to_sign_in(query: a.WhereQuery) -> dict[str, Any]:
    """By which source somebody signs in, by the domain of their e-mail; it does not tell whether anybody has that address."""
    return signing_in.where(house(), query.email)


@rooms.post("/sign-in/code", responses=answers("sign_in_models.AskedCode"))
@needs("nothing")
def ask_for_code(body: a.AskCodeBody) -> Response:
    """Have a code be mailed to an address, if it may sign in so; the answer does not tell whether it may."""
    address = place()
    _limiter().check(address)
    browser = cookies.read(cookies.BROWSER)
    limiter = current_app.config["LETTER_LIMITER"]
    asked = mail_codes.ask(house(), limiter, _base(), body.email, browser, body.trial, body.back, network=address, source=body.source)
    _limiter().failed(address)
    response = jsonify({"state": asked.state, "source": asked.source, "minutes": asked.minutes})
    cookies.keep(response, cookies.BROWSER, asked.browser, mail_codes.SECONDS)
    return response


@rooms.post("/sign-in/code/given", responses=answers("sign_in_models.CameIn"))
@needs("nothing")
def give_code(body: a.GiveCodeBody) -> Response:
    """Give a code back that came by mail, and be in."""
    came = mail_codes.receive(house(), _base(), body.state, body.code, cookies.read(cookies.BROWSER), body.given_name, body.family_name)
    if came.outcome == IN:
        _limiter().worked(place())
    response = jsonify(
        {"outcome": came.outcome, "back": came.back, "message": came.message, "whom_to_ask": came.whom_to_ask, "trace": came.trace}
    )  # fmt: skip
    if came.visit:
        cookies.keep(response, cookies.USER, came.visit, 7 * 86_400)
    response.headers["Cache-Control"] = "no-store"
    return response


def _limiter() -> Limiter:
    found: Limiter = current_app.config["SSO_LIMITER"]
    return found


@rooms.get("/yours", responses=answers("sign_in_models.Yours"))
@needs("nothing")
def yours() -> dict[str, Any]:
    """What is there for whoever is signed in as a person: their applications, and whom to ask."""
    return visiting.mine(house(), _visitor())


@rooms.delete("/yours/visit", responses=answers("models.Left"))
@needs("nothing")
def end_own_visit() -> Response:
    """Sign out as a person; the answer says where the browser goes to sign out at the provider too."""
    known = _visitor()
    if not hmac.compare_digest(request.headers.get(CSRF_HEADER, "").encode(), known.csrf.encode()):
        raise NotPermitted("The request does not carry the visit's CSRF token.", f"Send it in the header {CSRF_HEADER}; reload the page.")
    response = jsonify({"go_to": signing_out.leave(house(), known, _base())})
    cookies.forget(response, cookies.USER)
    return response


def _visitor() -> Visitor:
    known = visitor()
    if known is None:
        raise NotSignedIn("Nobody is signed in here.", "Sign in by way of your own sign-in service.")
    return known
