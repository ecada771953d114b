"""A stand-in for an email server: it accepts every message by SMTP, delivers none, and shows them.

    python -m dravo.demo.mail_server --name "Mail" --port 8450 --smtp-port 8451 --data-file FILE

GET /letters [{"id", "to", "from", "subject", "text"}], newest first; DELETE /letters; PUT /faults
{"refusing", "busy", "losing"}, of which the last takes messages without a reply; POST /events takes a webhook
message, GET /events shows them; the page is at /.
"""

from __future__ import annotations

import email
import email.policy
import html
import json
import threading
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller

from dravo.demo.http_server import Answer, Call, end_with_parent, make_server, page, stand_in_arguments

MOST = 200
_COLUMNS = (("r><td", "kind"), ("d", "status"), ("d", "title"))


class Letters:
    """The received messages, newest first."""

    def __init__(self, name: str, data_file: Path) -> None:
        self.name, self.data_file, self.lock = name, data_file, threading.Lock()
        self.kept: list[dict[str, str]] = json.loads(data_file.read_text()) if data_file.exists() else []
        self.faults: dict[str, Any] = {}
        self.events: list[dict[str, Any]] = []

    async def handle_DATA(self, server: Any, _session: Any, envelope: Any) -> str:
        """Take a letter, as the library hands it over."""
        if self.faults.get("refusing"):
            return "550 No such user"
        if self.faults.get("busy"):
            return "451 Come back later"
        message = email.message_from_bytes(envelope.content, policy=email.policy.default)
        body = message.get_body(("plain",))
        letter = {
            "id": str(message["Message-ID"]),
            "to": ", ".join(envelope.rcpt_tos),
            "from": str(envelope.mail_from),
            "subject": str(message["Subject"]),
            "text": body.get_content() if body is not None else "",
        }
        with self.lock:
            self.kept = [letter, *self.kept][:MOST]
            self.data_file.write_text(json.dumps(self.kept))
        if self.faults.get("losing"):
            server.transport.abort()
        return "250 Taken"

    def handle(self, call: Call) -> Answer:
        """Answer one request."""
        if call.path == "/letters" and call.method == "DELETE":
            with self.lock:
                self.kept = []
            return Answer(204)
        if call.path == "/letters":
            return Answer(200, self.kept)
        if call.path == "/events" and call.method == "POST":
            self.events = [dict(call.body or {}), *self.events][:MOST]
            return Answer(204)
        if call.path == "/events":
            return Answer(200, self.events)
        if call.path == "/faults" and call.method == "PUT":
            self.faults = dict(call.body or {})
            return Answer(200, self.faults)
        rows = "".join(
            f"<tr><td>{html.escape(each['to'])}<td>{html.escape(each['subject'])}"
            f"<td><pre>{html.escape(each['text'])}</pre>"
            for each in self.kept
        )
        events = "".join(
            "".join(f"<t{tag}>{html.escape(str(each.get(name)))}" for tag, name in _COLUMNS)
            for each in self.events
        )
        return page(
            self.name,
            [
                f"<p>{len(self.kept)} emails. None is "
                f"forwarded.</p><table><tr><th>To<th>Subject<th>Text{rows}</table>",
                f"<h2>Webhook messages</h2><table><tr><th>Event<th>Status<th>Title{events}</table>",
            ],
        )


def main() -> None:
    """Run the stand-in until its parent ends."""
    parser = stand_in_arguments("A stand-in for an email server that shows the received emails.")
    parser.add_argument("--smtp-port", type=int, required=True)
    given = parser.parse_args()
    end_with_parent()
    letters = Letters(given.name, given.data_file)
    Controller(letters, hostname="127.0.0.1", port=given.smtp_port).start()
    make_server("127.0.0.1", given.port, letters.handle, listening=given.listening).serve_forever()


if __name__ == "__main__":
    main()
