"""What a protocol makes of the exchanges of one case together: rules over several, a question before telling,
answers in pages.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from juxtalogos.documents.uris import origin_alone
from juxtalogos.exchange.transport import Sender
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.wire import Conversation
from juxtalogos.run.judging.judge import Judgement, judge, verdict_of
from juxtalogos.run.target.session import Session

MAX_PAGES = 5
"""Further pages of one answer that are looked at."""
Page = tuple[Operation, Exchange, Judgement]


@dataclass(slots=True)
class Conversations:
    """Those of one case, a contract each, begun when they are first needed."""

    known: dict[str, Conversation | None] = field(default_factory=dict)

    def of(self, session: Session, contract: Contract) -> Conversation | None:
        """The conversation with a contract's service; None where its protocol has none."""
        if contract.name not in self.known:
            self.known[contract.name] = wire_of(contract).conversation(session.base_url(contract))
        return self.known[contract.name]


async def conversed(
    session: Session,
    conversations: Conversations,
    contract: Contract,
    operation: Operation,
    judged: Page,
    sender: Sender,
    *,
    pages: int = MAX_PAGES,
) -> tuple[Judgement, list[Page]]:
    """The judgement with what the conversation adds to it, and the further pages of the answer, each judged
    by itself.
    """
    conversation = conversations.of(session, contract)
    _, exchange, judgement = judged
    if conversation is None or judgement.answer is None:
        return judgement, []
    results = (*judgement.results, *conversation.seen(operation, exchange, judgement.answer))
    question = conversation.question(operation, results)
    if question is not None and origin_alone(question.url) in session.target.origins():
        told = await session.send(contract, operation, question, sender)
        results = conversation.answered(operation, results, told)
    if results != judgement.results:
        verdict, reason = verdict_of(results)
        judgement = replace(judgement, results=results, verdict=verdict, reason=reason)
    found: list[Page] = []
    answer, seen = judgement.answer, {exchange.request.url}
    while len(found) < pages and answer is not None:
        request = conversation.more(exchange, answer)
        # A link in an answer is followed within the target's own origins, and never in a circle.
        if (
            request is None
            or request.url in seen
            or origin_alone(request.url) not in session.target.origins()
        ):
            break
        seen.add(request.url)
        exchange = await session.send(contract, operation, request, sender)
        page = judge(wire_of(contract), operation, exchange, session.base_url(contract))
        found.append((operation, exchange, page))
        answer = page.answer
    return judgement, found
