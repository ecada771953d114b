"""`dravo source`: how a source is read on a schedule, its runs, and what waits for a decision."""

from __future__ import annotations

import argparse
import json
import sys
import time
from pathlib import Path
from typing import Any

from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from dravo.cli.assignment import show_preview
from dravo.cli.output import command, facts, list_options, moment, read_bytes, read_json, read_text, show_json, show_list, table
from dravo.client import Dravo

_MARKS = {"ok": "x", "look at this": "!", "wrong": "-", "not tried": " "}


def add_verbs(verbs: Any) -> None:
    """Add the commands to those about sources."""
    read = command(
        verbs, "set-import", _read, "say how a source is read, or change that",
        ["dravo source set-import estates ldap --set address=ldaps://directory.fernhollow.example --set people_base=dc=fernhollow,dc=example",
         "dravo source set-import estates --schedule '30 * * * *' --enabled"],
    )  # fmt: skip
    read.add_argument("key")
    read.add_argument("kind", nargs="?", help="ldap, scim or csv; the first time")
    read.add_argument("--set", action="append", default=[], metavar="NAME=VALUE", help="a setting; @FILE for the content of a file")
    read.add_argument("--secret-file", metavar="FILE", help="a file with the password, token or key; - for standard input")
    read.add_argument("--schedule", metavar="CRON", help="when it is read by itself, such as '0 * * * *'; '' for never")
    read.add_argument("--answers", metavar="FILE", help="answers to the five questions as JSON; - for standard input")
    force = read.add_mutually_exclusive_group()
    force.add_argument("--enabled", action="store_true", default=None, help="what is read is taken in")
    force.add_argument("--in-preparation", dest="enabled", action="store_false", help="runs only show what they would do")
    force.add_argument("--enabled-from", metavar="INSTANT", help="in force from then on, such as 2031-04-02T06:00:00Z; '' for no such hour")
    shown = command(verbs, "import", _reading, "how a source is read, and when next", ["dravo source import estates"])
    shown.add_argument("key")
    answers = command(verbs, "policy", _answers, "a source's answers to the five questions, as JSON")
    answers.add_argument("key")
    tried = command(verbs, "preview-policy", _try, "what other answers would make of everybody; nothing is changed")
    tried.add_argument("key")
    tried.add_argument("file", help="answers as JSON; - for standard input")
    check = command(verbs, "check-import", _check, "try a source's connection step by step")
    check.add_argument("key")
    upload = command(verbs, "upload", _upload, "put CSV files in place", ["dravo source upload volunteers people.csv memberships.csv"])
    upload.add_argument("key")
    upload.add_argument("files", nargs="+", help="people.csv, groups.csv, memberships.csv")
    run = command(
        verbs, "run", _run, "read a source now, or look at what that would do",
        ["dravo source run estates --preview", "dravo source run estates --allow-removals --confirm 'Estates directory'"],
    )  # fmt: skip
    run.add_argument("key")
    run.add_argument("--preview", action="store_true", help="show what it would do, and change nothing")
    run.add_argument("--whole", action="store_true", help="read everybody, also where what changed would do")
    run.add_argument("--allow-removals", action="store_true", help="whoever is missing may leave, however many they are")
    run.add_argument("--confirm", metavar="LABEL", help="the source's label, for --allow-removals")
    run.add_argument("--no-wait", action="store_true", help="do not wait for its end")
    _add_verbs_about_runs(verbs)


def _add_verbs_about_runs(verbs: Any) -> None:
    runs = command(verbs, "runs", _runs, "list a source's runs")
    runs.add_argument("key")
    list_options(runs)
    lines = command(verbs, "run-entries", _lines, "what a run did to people and groups")
    lines.add_argument("key")
    lines.add_argument("run_id", nargs="?", metavar="run", help="the run's id; without it the last one")
    lines.add_argument("--kind", help="such as new, changed, left, refused, conflict, missing")
    lines.add_argument("--words", help="a part of the name")
    list_options(lines)
    stop = command(verbs, "stop-run", _stop, "stop the run that is under way")
    stop.add_argument("key")
    refresh = command(verbs, "refresh", _refresh, "read one person anew, now", ["dravo source refresh estates una.kerrigan"])
    refresh.add_argument("key")
    refresh.add_argument("person")
    conflicts = command(verbs, "conflicts", _conflicts, "what no rule can decide about a source's people and groups")
    conflicts.add_argument("key")
    conflicts.add_argument("--decided", action="store_true", help="those that were decided")
    list_options(conflicts)
    move = command(
        verbs, "link-record", _move, "say whose a record is: a link made or undone by hand",
        [
            "dravo source link-record estates una.kerrigan --to ibrahim.sow --preview",
            "dravo source link-record estates una.kerrigan --to-somebody-new",
        ],
    )  # fmt: skip
    move.add_argument("key")
    move.add_argument("person", help="whose it is now")
    whose = move.add_mutually_exclusive_group(required=True)
    whose.add_argument("--to", metavar="PERSON")
    whose.add_argument("--to-somebody-new", action="store_true")
    move.add_argument("--preview", action="store_true", help="show what it would do, and change nothing")
    move.add_argument("--confirm", metavar="NAME", help="the user name, where much is taken away by it")
    decide = command(verbs, "decide-conflict", _decide, "decide a conflict", ["dravo source decide-conflict estates ID link --person una.kerrigan"])
    decide.add_argument("key")
    decide.add_argument("id")
    decide.add_argument("decision", choices=("link", "make", "let", "leave-out"))
    decide.add_argument("--person", help="who it is, for link")


def _read(given: argparse.Namespace, dravo: Dravo) -> None:
    settings: dict[str, Any] = {}
    for each in given.set:
        name, equals, value = each.partition("=")
        if not equals:
            sys.exit(f"'{each}' is no setting; write it as NAME=VALUE.")
        value = read_text(value[1:]) if value.startswith("@") else value
        settings[name] = {"true": True, "false": False}.get(value.lower(), value)
    values: dict[str, Any] = {
        "settings": settings or None,
        "kind": given.kind,
        "schedule": given.schedule,
        "enabled": given.enabled,
        "enabled_from": given.enabled_from,
    }
    if given.secret_file:
        values["secret"] = read_text(given.secret_file).strip()
    if given.answers:
        values["policy"] = read_json(given.answers)
    dravo.sources.change_reading(given.key, **{name: value for name, value in values.items() if value is not None})
    _reading(given, dravo)


def _reading(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.reading(given.key)
    if given.json:
        show_json(found)
        return
    shown = {field["label"]: _setting(found["settings"].get(field["name"])) for field in found["fields"]}
    facts({
        "Read as": found["label"], **{name: value for name, value in shown.items() if value not in ("", "no")},
        "Secret": "kept" if found["has_secret"] else "none",
        "In force": "yes" if found["enabled"] else f"from {moment(found['enabled_from'])}" if found["enabled_from"] else "no: runs only look",
        "Pilot group": found["policy"]["pilot"] or None,
        "Schedule": found["schedule_words"], "Next (UTC)": ", ".join(moment(each) for each in found["next_at"]) or None,
        "Everybody read last": moment(found["full_at"]), "Waiting for a decision": found["conflicts"] or None,
        "Files": ", ".join(f"{each['name']} ({each['size']:,} bytes, {moment(each['changed_at'])})" for each in found["files"]) or None,
    })  # fmt: skip


def _setting(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    text = str(value)
    return f"{text.splitlines()[0]} ..." if "\n" in text else text


def _answers(given: argparse.Namespace, dravo: Dravo) -> None:
    print(json.dumps(dravo.sources.reading(given.key)["policy"], indent=2, ensure_ascii=False))


def _try(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.try_answers(given.key, read_json(given.file))
    if given.json:
        show_json(found)
        return
    print(
        f"Of {found['looked_at']:,} people {found['comes_in']:,} stay as they are, {found['changed']:,} change, "
        f"{found['leaves']:,} leave, {found['refused']:,} are refused."
    )
    out = [each["name"] for each in found["groups"] if not each["comes_in"]]
    if out:
        print(f"Of {len(found['groups']):,} groups that it has, these stay out: {', '.join(out)}.")
    if found["made_groups"]:
        told = ", ".join(f"{each['name']} ({each['people']:,})" for each in found["made_groups"])
        print(f"Groups that come of what it says of people: {told}.")
    rows = [{**each, "told": _told(each)} for each in found["items"]]
    if rows:
        table({"Name": lambda r: r["name"], "Outcome": lambda r: r["outcome"], "What changes": lambda r: r["told"]}, rows)


def _told(line: Any) -> str:
    changed = [f"{each['attribute'].rpartition(':')[2]}: {_value(each['before'])} -> {_value(each['after'])}" for each in line["changes"]]
    return "; ".join([*changed, *([line["message"]] if line["message"] else [])])


def _value(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(_value(each) for each in value)
    if isinstance(value, dict):
        return _value(value["value"]) if "value" in value else " ".join(str(each) for each in value.values())
    return "nothing" if value is None else str(value)


def _check(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.check(given.key)
    if given.json:
        show_json(found)
    else:
        for step in found["steps"]:
            print(f"[{_MARKS.get(step['outcome'], ' ')}] {step['name']:<22} {step['message']}")
            if step["hint"]:
                print(f"    {'':<22} {step['hint']}")
        if found["sample"]:
            print("\nWhat the answers make of the first:\n")
            columns = {
                "Name there": lambda s: s["name"],
                "User name": lambda s: (s["person"] or {}).get("userName"),
                **({"Groups of what is said": lambda s: ", ".join(s["groups"])} if any(s["groups"] for s in found["sample"]) else {}),
                "Comes in": lambda s: "yes" if s["comes_in"] else s["message"],
            }
            table(columns, found["sample"][:10])
    if not found["ok"]:
        sys.exit(1)


def _upload(given: argparse.Namespace, dravo: Dravo) -> None:
    for name in given.files:
        file = Path(name)
        dravo.sources.upload(given.key, file.name, read_bytes(file))
        print(f"{file.name} is in place.")


def _run(given: argparse.Namespace, dravo: Dravo) -> None:
    run = dravo.sources.begin_run(given.key, preview=given.preview, whole=given.whole, allow_removals=given.allow_removals, confirm=given.confirm)
    if not given.no_wait:
        run = _follow(dravo, given.key, run)
    if given.json:
        show_json(run)
        return
    _show_run(run)
    if given.preview and run["state"] == "done":
        print(f"\nNothing was changed. Line by line: dravo source run-entries {given.key}")
    if run["state"] in ("failed", "held"):
        sys.exit(1)


def _follow(dravo: Dravo, key: str, run: Any) -> Any:
    shape = (
        TextColumn("{task.description}"),
        BarColumn(),
        TextColumn("{task.completed:,} read, {task.fields[rate]:,} a second"),
        TimeRemainingColumn(),
    )
    with Progress(*shape, transient=True) as shown:
        task = shown.add_task("Reading", total=None, rate=0)
        while run["ended_at"] is None:
            time.sleep(0.3)
            run = dravo.sources.run(key, run["id"])
            shown.update(task, completed=run["progress"], total=max(run["expected"], run["progress"]) or None, rate=run["per_second"])
    return run


def _show_run(run: Any) -> None:
    facts({
        "Run": run["id"], "State": f"{run['state']}{', a look only' if run['preview'] else ''}", "Asked by": run["requested_by"],
        "Began (UTC)": moment(run["started_at"], seconds=True), "Ended": moment(run["ended_at"], seconds=True),
        "What was read": "everybody" if run["whole"] else "what changed",
        **{each["name"].capitalize(): f"{each['number']:,}" for each in run["counts"]},
        "Told": run["message"], "Hint": run["hint"],
    })  # fmt: skip
    for each in run["access"]:
        print(f"{each['application']}, {each['role']}: {each['gained']:,} would gain it, {each['lost']:,} would lose it")


def _runs(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Began (UTC)": lambda r: moment(r["started_at"] or r["requested_at"], seconds=True),
        "State": lambda r: f"{r['state']}{' (look)' if r['preview'] else ''}",
        "Read": lambda r: "everybody" if r["whole"] else "changes",
        "Counts": lambda r: ", ".join(f"{each['name']} {each['number']:,}" for each in r["counts"]),
        "Asked by": lambda r: r["requested_by"],
        "Told": lambda r: r["message"],
        "ID": lambda r: r["id"],
    }
    show_list(given, dravo.sources.runs(given.key), columns, "It was not read yet: dravo source run KEY --preview")


def _lines(given: argparse.Namespace, dravo: Dravo) -> None:
    run_id = given.run_id
    if run_id is None:
        newest = next(iter(dravo.sources.runs(given.key)), None)
        if newest is None:
            sys.exit("It was not read yet.")
        run_id = newest["id"]
    columns = {"What": lambda x: x["kind"], "Name": lambda x: x["name"], "Before and after": _told}
    show_list(given, dravo.sources.run_lines(given.key, run_id, kind=given.kind, words=given.words), columns, "It changed nothing.")


def _stop(given: argparse.Namespace, dravo: Dravo) -> None:
    newest = next(iter(dravo.sources.runs(given.key)), None)
    if newest is None or newest["ended_at"] is not None:
        sys.exit("No run is under way.")
    dravo.sources.stop_run(given.key, newest["id"])
    print("It stops at its next batch; what it has taken in stands.")


def _refresh(given: argparse.Namespace, dravo: Dravo) -> None:
    run = dravo.sources.refresh(given.key, dravo.people.get(given.person)["id"])
    if given.json:
        show_json(run)
    else:
        print(", ".join(f"{each['name']} {each['number']}" for each in run["counts"]) + ".")


def _conflicts(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda c: c["name"],
        "What": lambda c: c["message"],
        "Could be": lambda c: ", ".join(f"{each['display_name']} ({each['user_name']}, {each['state']})" for each in c["candidates"]),
        "Choices": lambda c: c["decision"] or ", ".join(c["choices"]).replace("leave out", "leave-out"),
        "ID": lambda c: c["id"],
    }
    found = dravo.sources.conflicts(given.key, state="decided" if given.decided else "open")
    show_list(given, found, columns, "Nothing waits for a decision.")


def _decide(given: argparse.Namespace, dravo: Dravo) -> None:
    decided = dravo.sources.decide(given.key, given.id, given.decision.replace("-", " "), given.person)
    if given.json:
        show_json(decided)
    else:
        print(f"Decided: {decided['name']}, {decided['decision']}.")


def _move(given: argparse.Namespace, dravo: Dravo) -> None:
    person = dravo.people.get(given.person)
    records = [each["id"] for each in person["records"] if each["source"]["key"] == given.key and not each["gone_at"]]
    if not records:
        sys.exit(f"'{given.key}' says nothing of {person['display_name']}.")
    if given.preview:
        show_preview(given, dravo.people.preview_move(records[0], given.to))
        return
    moved = dravo.people.move_record(records[0], given.to, confirm=given.confirm)
    if given.json:
        show_json(moved)
    else:
        print(f"It is {moved['display_name']}'s now ({moved['user_name']}).")
