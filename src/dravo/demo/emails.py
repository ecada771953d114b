"""What the demo sends: notifications by email and webhook, an announcement, and invitations of guests."""

from __future__ import annotations

from dravo.client import Dravo
from dravo.demo import contractors, scenario
from dravo.demo.support import client, wait_until

# The duty desk is a receiver of webhook messages, which the stand-in of the email server shows.
WEBHOOK, RULE = "Duty desk", "Failures to the duty desk"
KINDS = ["task_failed", "application_paused", "import_failed", "worker_restarted"]
ORGANIZATION = "Fernhollow Botanic Trust"
ANNOUNCED = (
    "A second factor for your sign-in",
    "From next Monday on, your employer asks you for a second factor when you sign in.\n\n"
    "Your access to our applications stays as it is.",
)

# Local users: two are invited, and one has a one-time password and requests another.
GUESTS = "guests.example"
INVITED = (
    {"email": f"ida.vosper@{GUESTS}", "given_name": "Ida", "family_name": "Vosper"},
    {"email": f"dario.lind@{GUESTS}", "given_name": "Dário", "family_name": "Lind"},
)
WITH_PASSWORD = {"email": f"zora.quill@{GUESTS}", "given_name": "Zora", "family_name": "Quill"}
UNTIL = "2031-06-30"

# What the estates desk reads once an hour, in one email.
SUMMARY, SUMMARIZED = "Hourly summary for the estates desk", ["drift_found", "seats_full", "task_failed"]


def connect(dravo: Dravo, mail: str) -> None:
    """Create the webhook; or give it the address that the stand-in has now.

    Args:
        mail: the address of the stand-in of the email server.
    """
    url = f"{mail}/events"
    found = next((each for each in dravo.notifications.webhooks() if each["label"] == WEBHOOK), None)
    if found is None:
        made = dravo.notifications.create_webhook(WEBHOOK, url)
        to = [{"kind": "webhook", "value": made["id"]}]
        dravo.notifications.create_rule(RULE, to, kinds=KINDS)
        desk = [{"kind": "address", "value": f"estates.desk@{scenario.DOMAIN}"}]
        dravo.notifications.create_rule(SUMMARY, desk, kinds=SUMMARIZED, frequency="hourly")
    elif found["url"] != url:
        dravo.notifications.change_webhook(found["id"], url=url)


def announce(dravo: Dravo) -> None:
    """Announce a change to the contractors."""
    dravo.notifications.announce("source", contractors.KEY, *ANNOUNCED)


def load(dravo: Dravo, operator: str) -> None:
    """Give the super administrator an address and emails a greeting, and have a test email sent.

    Args:
        operator: the name of the super administrator.
    """
    address = f"{operator}@{scenario.DOMAIN}"
    found = next(each for each in dravo.operators.list() if each["name"] == operator)
    dravo.operators.change(found["id"], email=address)
    dravo.change_setting("organization_name", ORGANIZATION)
    footer = "Sent by Dravo for {organization}, {address}\nQuestions: People and Finance, extension 120"
    dravo.notifications.change_text("notification", "{title}", "Good day,", footer)
    dravo.mail.test(address)


def summarize(dravo: Dravo) -> None:
    """Have the first hourly summary sent now."""

    def collected() -> str:
        return next((each["id"] for each in dravo.notifications.messages(status="collected")), "")

    wait_until(lambda: bool(collected()), "the first summary", 60)
    dravo.notifications.send_again(collected())


def invite(dravo: Dravo, url: str) -> None:
    """Invite two guests to the local group; create a third with a password, who requests another one.

    Args:
        url: the address of the service.
    """
    group = str(scenario.LOCAL_GROUP["name"])
    dravo.invitations.create(INVITED, groups=[group], until=UNTIL)
    dravo.invitations.create([WITH_PASSWORD], groups=[group], until=UNTIL, with_passwords=True)
    with client(url) as http:
        body = {"email": WITH_PASSWORD["email"]}
        http.post("/api/v1/sign-in/password/forgotten", json=body).raise_for_status()
