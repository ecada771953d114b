"""Sends the changes of many tasks of one application in few requests, where it offers Bulk (RFC 7644, section
3.7).

Each task has its own conversation. Conversations that reach a change wait for each other, and their changes
are sent together. Each result is read from the response and written for its task.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from dravo.core.errors import DravoError
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client import bulk
from dravo.protocols.scim_client.account_sync import AccountResult, Conversation
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import ProvisioningError, RetryableError
from dravo.services.context import AppContext
from dravo.services.provisioning.attempt import Attempt, AttemptResult, as_provisioning_error, begin
from dravo.services.provisioning.client import ApplicationClient, ExchangeLog

# Fewer changes than this are sent one by one, because one lost response makes all changes of a bulk request
# uncertain.
FEW = 3


@dataclass
class UnderWay:
    """One task in a bulk request: its conversation, and its next change or its result."""

    attempt: Attempt
    conversation: Conversation
    answer: Callable[[Any], Any]
    asked: Request | None = None
    went: AccountResult | ProvisioningError | None = None
    counts: bool = True

    def go_on(self, talker: ApplicationClient, sent: Any) -> None:
        """Continue the conversation, answering reads, until it asks for a change or ends."""
        self.asked = None
        try:
            while True:
                question = self.conversation.send(sent)
                if bulk.is_change(question):
                    self.asked = question
                    return
                sent = (
                    talker.exchange(self.attempt.talk, question)
                    if isinstance(question, Request)
                    else self.answer(question)
                )
        except StopIteration as end:
            self.went = end.value
        except (ProvisioningError, DravoError) as wrong:
            self.went = as_provisioning_error(wrong)

    def note(self, whole: ExchangeLog, status: int | None, said: str | None, number: int) -> None:
        """Note the change as an exchange of its own, with the response to it."""
        assert self.asked is not None
        last = whole.exchanges[-1]
        line = {
            "method": self.asked.method,
            "path": self.asked.path,
            "query": None,
            "status": status,
            "milliseconds": last["milliseconds"],
        }
        self.attempt.talk.exchanges.append({**line, "excerpt": said, "bulk_operations": number})


@dataclass
class Together:
    """Sends the changes of several tasks to one application."""

    talker: ApplicationClient
    capabilities: Capabilities
    under_way: list[UnderWay] = field(default_factory=list)

    def carry_out(self) -> None:
        """Finish all tasks."""
        for each in self.under_way:
            each.go_on(self.talker, None)
        while asking := [each for each in self.under_way if each.asked is not None]:
            requests = [each.asked for each in asking if each.asked is not None]
            for places in bulk.parts(requests, self.capabilities):
                self._send([asking[place] for place in places])

    def _send(self, some: list[UnderWay]) -> None:
        if len(some) < FEW or bulk.most_together(self.capabilities) == 1:
            for each in some:
                self._send_one(each)
            return
        requests = [each.asked for each in some if each.asked is not None]
        whole = ExchangeLog(some[0].attempt.talk.there)
        try:
            response = self.talker.exchange(whole, bulk.joined(requests))
        except (ProvisioningError, DravoError) as wrong:
            for place, each in enumerate(some):
                if each.asked is not None:
                    self.talker.note_gone(whole.there.id, each.asked, None)
                if whole.exchanges:
                    each.note(whole, None, whole.exchanges[-1]["excerpt"], len(some))
                each.asked, each.went, each.counts = None, as_provisioning_error(wrong), place == 0
            return
        if bulk.is_not_taken(response):
            self._send_otherwise(some, response)
            return
        for place, (each, own) in enumerate(zip(some, bulk.apart(requests, response), strict=True)):
            each.counts = response.ok or place == 0
            self._tell(each, whole, own, len(some))

    def _tell(self, each: UnderWay, whole: ExchangeLog, own: Response | None, number: int) -> None:
        if own is None:
            assert each.asked is not None
            self.talker.note_gone(whole.there.id, each.asked, None)
            each.note(whole, None, "The response contains no result for this change.", number)
            each.asked = None
            each.went = RetryableError(
                "The response to a bulk request contains no result for this change.",
                "Dravo checks the account before the next attempt.",
            )
            return
        each.note(whole, own.status, None if own.ok else own.excerpt, number)
        assert each.asked is not None
        self.talker.note_gone(whole.there.id, each.asked, own.status)
        each.go_on(self.talker, own)

    def _send_one(self, each: UnderWay) -> None:
        assert each.asked is not None
        try:
            response = self.talker.exchange(each.attempt.talk, each.asked)
        except (ProvisioningError, DravoError) as wrong:
            each.asked, each.went = None, as_provisioning_error(wrong)
            return
        each.go_on(self.talker, response)

    def _send_otherwise(self, some: list[UnderWay], response: Response) -> None:
        """Send a refused request in another way: fewer changes at a time, or each change by itself from now
        on.
        """
        if response.status == 413:
            middle = len(some) // 2
            self._send(some[:middle])
            self._send(some[middle:])
            return
        self.capabilities = self.talker.without_bulk(some[0].attempt.talk, self.capabilities)
        self._send(some)


def carry_out_together(
    ctx: AppContext, talker: ApplicationClient, tasks: Sequence[str]
) -> list[AttemptResult]:
    """Try several tasks of one application; return the results, which the caller writes.

    Args:
        tasks: their IDs. Tasks with nothing left to do are skipped.
    """
    begun = [each for each in (begin(ctx, task_id) for task_id in tasks) if each is not None]
    if not begun:
        return []
    try:
        capabilities = talker.capabilities(begun[0].talk)
    except (ProvisioningError, DravoError) as wrong:
        return [
            each.settlement(as_provisioning_error(wrong), counts=place == 0)
            for place, each in enumerate(begun)
        ]
    under_way = [
        UnderWay(each, each.conversation(capabilities), each.answers(talker, capabilities)) for each in begun
    ]
    Together(talker, capabilities, under_way).carry_out()
    return [
        each.attempt.settlement(each.went, counts=each.counts) for each in under_way if each.went is not None
    ]
