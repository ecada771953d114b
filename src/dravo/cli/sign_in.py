"""`dravo sign-in`: how people sign in by sources: the exchange sheet, trials, traces, and for whom it is in force."""

from __future__ import annotations

import argparse
import getpass
from typing import Any

from dravo.cli.errors import FAILED
from dravo.cli.output import UsageError, command, list_options, moment, noun, read_json, read_text, show_json, show_list, table
from dravo.client import Dravo

# Settings that are set by options of the same name.
_TEXTS = ("metadata_address", "issuer", "client_id", "scopes", "subject", "pilot", "support_contact", "registration_group")
_NUMBERS = {
    "skew": "seconds by which the clocks may differ, maximum 300 (default 60)",
    "claims_days": "days after which group memberships from claims end without a sign-in; 0: never (default 30)",
    "longest_hours": "hours for which a SAML response may be valid, 1 to 24 (default 1)",
}
_SWITCHES = ("unasked", "signs", "auto_accept_certificates", "import_groups", "refresh", "anew", "userinfo", "by_key")


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "sign-in", "how people sign in by sources, and what it came to")
    show = command(verbs, "show", _show, "show how people sign in by a source, and what is missing")
    sheet = command(
        verbs, "checklist", _sheet, "print the exchange sheet, for whoever runs the provider", ["dravo sign-in checklist contractors > sheet.txt"]
    )
    change = command(
        verbs, "set", _set, "set how people sign in; what is left out stays",
        [
            "dravo sign-in set contractors --protocol saml --metadata-address https://id.rootworks.example/metadata",
            "dravo sign-in set contractors --metadata metadata.xml",
            "dravo sign-in set volunteers --protocol mail",
            "dravo sign-in set partners --protocol oidc --issuer https://id.rootworks.example --client-id dravo --ask-secret",
        ],
    )  # fmt: skip
    answers = command(
        verbs, "policy", _answers, "the answers to the five questions for those who sign in, as JSON",
        ["dravo sign-in policy contractors > answers.json", "dravo sign-in set contractors --answers answers.json"],
    )  # fmt: skip
    state = command(
        verbs,
        "status",
        _state,
        "set for whom it is in force",
        ["dravo sign-in status contractors pilot", "dravo sign-in status contractors everybody"],
    )
    trial = command(
        verbs, "test", _trial, "let one named person try; prints the link, the only time", ["dravo sign-in test contractors idris.vance --minutes 15"]
    )
    trials = command(verbs, "tests", _trials, "list trials, newest first, and how far each has come")
    list_options(trials)
    traces = command(verbs, "traces", _traces, "list what sign-ins came to, newest first", ["dravo sign-in traces contractors --outcome refused"])
    trace = command(
        verbs, "trace", _trace, "show one sign-in step by step", ["dravo sign-in trace contractors ID", "dravo sign-in trace contractors ID --again"]
    )
    ways = command(
        verbs, "options", _ways, "by which ways a person could sign in now, and what they would see", ["dravo sign-in options idris.vance"]
    )
    out = command(verbs, "end-sessions", _end, "end every visit of a person", ["dravo sign-in end-sessions idris.vance"])
    claimed = command(verbs, "groups", _groups, "list groups that sign-ins claimed, trials too, and that are not here yet")
    claimed.add_argument("words", nargs="?", default="", help="a part of the name")
    ahead = command(
        verbs, "add-group", _add_group, "make a group by its name in the claims, to be mapped before anybody comes",
        ["dravo sign-in add-group contractors Scaffolders"],
    )  # fmt: skip
    ahead.add_argument("source", help="its key")
    ahead.add_argument("group", help="its name as it stands in the claims")
    for each in (answers, trials, show, sheet, change, state, trial, traces, trace):
        each.add_argument("source", help="its key")
    change.add_argument("--protocol", choices=("saml", "oidc", "mail"), help="the first time; mail: by a code that is mailed")
    change.add_argument("--serves", choices=("people", "operators", "both"), help="whom it lets in; operators only by a super administrator's word")
    change.add_argument("--metadata", metavar="FILE", help="the provider's metadata; - reads it from the input")
    change.add_argument("--answers", metavar="FILE", help="answers to the five questions as JSON; - for standard input")
    change.add_argument("--entity-id", help="the provider's, where there is no metadata")
    change.add_argument("--address", help="the provider's for signing in, where there is no metadata")
    change.add_argument("--certificate", metavar="FILE", help="the provider's, where there is no metadata")
    change.add_argument("--ask-secret", action="store_true", help="ask for our client secret")
    change.add_argument("--refresh-metadata", action="store_true", help="fetch what is at the address now")
    for name in _TEXTS:
        change.add_argument(f"--{name.replace('_', '-')}")
    for name, explained in _NUMBERS.items():
        change.add_argument(f"--{name.replace('_', '-')}", type=int, metavar="N", help=explained)
    for name in _SWITCHES:
        change.add_argument(f"--{name.replace('_', '-')}", choices=("yes", "no"))
    state.add_argument("state", choices=("off", "pilot", "everybody"))
    state.add_argument("--enabled-from", metavar="INSTANT", help="for everybody from an hour on, such as 2031-04-02T07:00:00Z")
    state.add_argument("--confirm", metavar="LABEL", help="the source's name, where nobody has come through the settings yet")
    trial.add_argument("person", help="their user name or e-mail")
    trial.add_argument("--for-real", action="store_true", help="take them in; else nothing is changed")
    trial.add_argument("--minutes", type=int, default=30, metavar="N", help="how long the link is good (default 30)")
    traces.add_argument("words", nargs="?", help="a part of the name, or of what is wrong")
    traces.add_argument("--outcome", choices=("in", "observed", "refused"))
    list_options(traces)
    trace.add_argument("trace", help="its id")
    trace.add_argument("--again", action="store_true", help="plan it again as it is set now")
    for each in (ways, out):
        each.add_argument("person", help="by id, user name or e-mail")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _shown(given, dravo.sign_ins.get(given.source))


def _shown(given: argparse.Namespace, found: Any) -> None:
    if given.json:
        show_json(found)
        return
    whom = "" if found["serves"] == "people" else f", lets in: {'operators' if found['serves'] == 'operators' else 'people and operators'}"
    print(f"{found['source']['label']}: {found['protocol_label']}, in force for: {found['state']}{whom}")
    if found["enabled_from"]:
        print(f"For everybody from {moment(found['enabled_from'])} UTC.")
    if found["protocol"] != "mail":
        print(f"Provider: {found['provider']['entity_id'] or 'not known yet'}")
    for each in found["provider"]["certificates"]:
        print(f"  certificate {each['subject']}, until {moment(each['until_at'])} UTC")
    for each in found["provider"]["waiting"]:
        print(f"  another certificate waits: {each['subject']}, until {moment(each['until_at'])} UTC")
    print(f"Missing yet: {', '.join(found['missing']) or 'nothing'}")
    print(f"Proved last: {moment(found['verified_at']) if found['verified_at'] else 'never with these settings'}")
    if found["trouble"]:
        print(f"Trouble: {found['trouble']}")
    table(
        {"Seen from real traffic": lambda t: t["label"], "First (UTC)": lambda t: moment(t["first_at"]) if t["first_at"] else "not yet"},
        found["ticks"],
    )


def _sheet(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sign_ins.get(given.source)
    if given.json:
        show_json(found["give"])
    else:
        print(found["text"], end="")


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    settings: dict[str, Any] = {name: getattr(given, name) for name in (*_TEXTS, *_NUMBERS) if getattr(given, name) is not None}
    settings |= {name: getattr(given, name) == "yes" for name in _SWITCHES if getattr(given, name) is not None}
    wish: dict[str, Any] = {"protocol": given.protocol, "serves": given.serves, "settings": settings or None, "look": given.refresh_metadata}
    if given.metadata:
        wish["metadata"] = read_text(given.metadata)
    if given.answers:
        wish["policy"] = read_json(given.answers)
    fields = {"entity_id": given.entity_id, "sign_in": given.address}
    if given.certificate:
        fields["certificates"] = read_text(given.certificate)
    if any(value is not None for value in fields.values()):
        wish["fields"] = fields
    if given.ask_secret:
        wish["secret"] = getpass.getpass("Client secret: ")
    if not any(value for value in wish.values()):
        raise UsageError("Nothing to change; see 'dravo sign-in set --help' for what there is.")
    _shown(given, dravo.sign_ins.change(given.source, **wish))


def _answers(given: argparse.Namespace, dravo: Dravo) -> None:
    show_json(dravo.sign_ins.get(given.source)["policy"])


def _groups(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sign_ins.claimed_groups(given.words)["items"]
    if given.json:
        show_json(found)
    elif not found:
        print("No sign-in claimed a group that is not here.")
    else:
        table({"Group": lambda g: g["name"], "Source": lambda g: g["source"]["label"]}, found)


def _add_group(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sign_ins.make_group(given.source, given.group)
    if given.json:
        show_json(made)
    else:
        print(f"Made the group '{made['name']}'; it holds nobody yet, and can be mapped.")


def _state(given: argparse.Namespace, dravo: Dravo) -> None:
    _shown(given, dravo.sign_ins.set_state(given.source, given.state, enabled_from=given.enabled_from, confirm=given.confirm))


def _trial(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sign_ins.begin_trial(given.source, given.person, mode="for real" if given.for_real else "observe", minutes=given.minutes)
    if given.json:
        show_json(made)
        return
    print(f"For {made['person']}, {'for real' if given.for_real else 'to look only'}, good until {moment(made['until_at'])} UTC:")
    print(made["link"])
    print(f"What came of it: dravo sign-in traces {given.source}")


def _trials(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Made (UTC)": lambda t: moment(t["created_at"]),
        "For": lambda t: t["person"],
        "How": lambda t: t["mode"],
        "Good until (UTC)": lambda t: moment(t["until_at"]),
        "So far": lambda t: t["so_far"],
        "Trace": lambda t: t["trace"],
    }
    show_list(given, dravo.sign_ins.trials(given.source), columns, "There was no trial.")


_TRACE = {
    "When (UTC)": lambda t: moment(t["at"]),
    "Who": lambda t: t["name"],
    "Outcome": lambda t: t["outcome"],
    "Why": lambda t: t["message"],
    "ID": lambda t: t["id"],
}


def _traces(given: argparse.Namespace, dravo: Dravo) -> None:
    show_list(given, dravo.sign_ins.traces(given.source, outcome=given.outcome, words=given.words), _TRACE, "Nobody has tried yet.")


def _trace(given: argparse.Namespace, dravo: Dravo) -> int | None:
    found: Any = dravo.sign_ins.plan_again(given.source, given.trace) if given.again else dravo.sign_ins.trace(given.source, given.trace)
    if given.json:
        show_json(found)
        return None
    for step in found["steps"]:
        print(f"{step['outcome']:<13}{step['name']:<18}{step['message']}")
        if step["hint"]:
            print(f"{'':<31}{step['hint']}")
    for each in found["groups"]:
        gives = ", ".join(f"{one['application']}: {one['role']}" for one in each["gives"]) or "gives nothing by itself"
        print(f"group        {each['claimed']:<18}{each['outcome']}; {gives}")
    for each in found["access"]:
        print(f"{each['what']:<13}{each['application']['label']}: {each['role']} ({'; '.join(each['reasons'])})")
    print(f"{found['outcome']}: {found['message']}")
    return FAILED if found["outcome"] == "refused" else None


def _ways(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sign_ins.ways(given.person)
    if given.json:
        show_json(found)
        return
    if not found["ways"]:
        print("Nobody signs in by any source yet.")
    for each in found["ways"]:
        bound = f"bound to it since {moment(each['bound_at'])} UTC" if each["bound_at"] else "not bound to it yet"
        print(f"{each['source']['label']:<26}{'opens' if each['opens'] else 'closed':<10}{each['protocol']}, {bound}")
        for line in (each["reason"], f"They would read: {each['told']} {each['support_contact']}".rstrip() if each["told"] else "", each["hint"]):
            if line:
                print(f"{'':<36}{line}")
        if each["enabled_from"]:
            print(f"{'':<36}For everybody from {moment(each['enabled_from'])} UTC.")
    seen = ", ".join(f"{each['label']} ({', '.join(each['roles'])})" for each in found["applications"])
    print(f"Inside they would see: {seen or 'no application yet'}.")


def _end(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sign_ins.end_visits(given.person)
    print("Every visit is ended.")
