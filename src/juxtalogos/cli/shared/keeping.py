"""`pin --whole` and `--renew`: whole answers kept, and the rules for what may differ in them."""

from __future__ import annotations

import asyncio
import shlex
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

from juxtalogos.cli.shared.confirming import confirmed
from juxtalogos.cli.shared.earlier import answer_value
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD
from juxtalogos.cli.shared.targeting import agreed
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.exchange.redact import MASK
from juxtalogos.exchange.transport import Transport
from juxtalogos.formats import wire_of
from juxtalogos.ledger import BodyForm, ExchangeQuery, ExchangeRecord, open_ledger
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError, UsageError
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.schema import ABSENT
from juxtalogos.run.engine.again import run_again, target_again
from juxtalogos.run.judging.known import known_values, made_places, values_made
from juxtalogos.run.target.session import Identity, Session, open_session
from juxtalogos.suite.comparing import Allowed, proposed
from juxtalogos.suite.document.outcomes import criteria_of, outcome_seen
from juxtalogos.suite.document.reader import find_suite, read_suites, suite_name, suite_paths
from juxtalogos.suite.document.saving import place_of, save_call
from juxtalogos.suite.kept_answers import MADE, kept_path, read_kept, read_rules, write_kept, write_rules
from juxtalogos.suite.language.expressions import Scope, evaluate, parse_expression
from juxtalogos.workspace.workspace import Workspace


def keep_whole(
    out: Terminal,
    home: Workspace,
    record: ExchangeRecord,
    name: str,
    give: Callable[[], None],
    *,
    twice: bool,
    yes_to: str = "",
) -> None:
    """Keeps an answer under a name that is free, with rules for what a call makes itself; with `twice` for
    what differed when it was made again.

    `give` adds the check: where that fails, nothing is kept.
    """
    assert record.exchange is not None
    if kept_path(home.root, name).exists():
        raise UsageError(
            f"a response is kept as {name} already",
            mend=f"to replace it: juxtalogos pin --renew {name} --exchange {record.id}",
        )
    _whole(record)
    value = answer_value(home, record, record.exchange)
    before = read_rules(home.root, record.contract, record.operation)
    allowed = _with_created(home, record, value, before)
    if twice:
        allowed = _seen_again(home, record, value, allowed, yes_to)
    _tell_rules(out, allowed, before, twice=twice)
    values = _values_of(home, record)
    give()
    if allowed != before:
        write_rules(home.root, record.contract, record.operation, allowed)
    path = write_kept(home.root, name, record.contract, record.operation, value, values)
    out.line("kept: ", (path.relative_to(home.root), "name"))
    if not twice:
        _compare_at_once(out, home, record, name)


def _compare_at_once(out: Terminal, home: Workspace, record: ExchangeRecord, name: str) -> None:
    """Asks a safe operation once more, so that what differs each time is seen now; of others the next run
    tells it.
    """
    contract = home.contract(record.contract) if record.contract in home.contract_names() else None
    operation = contract.operation(record.operation) if contract else None
    if operation is None or not operation.safe or _takes_values(home, record):
        if is_step(home, record):
            place = f"{record.suite}#{record.case.partition('[')[0]}"
            out.note((f"next: juxtalogos run {place}   compares it for the first time", "note"))
        return
    with open_ledger(home.ledger_path) as ledger:
        target = ledger.run(record.run).target
    if target not in home.config.targets:
        return  # recorded elsewhere: nothing is sent to another place for it
    try:
        other, values = next(_again(home, record, ""))
    except JuxtalogosError as error:
        out.note((f"not compared yet: {error.what}", "note"))
        return
    found = read_kept(home.root, name).differences(other, values)
    if not found:
        out.line("compared at once: the same")
    for text in found:
        out.line(("differs at once: ", "remark"), text)
    if found:
        command = f"juxtalogos pin --renew {name} --twice --exchange {record.id}"
        out.note((f"to allow what differs each time: {command}", "note"))


def _values_of(home: Workspace, record: ExchangeRecord) -> dict[str, Any]:
    """The values that an exchange's run knew; for one made by hand, those of the calls that are its case's
    earlier steps.
    """
    known = known_values(record)
    if any(name.startswith((MADE, "steps.")) for name in known) or not is_step(home, record):
        return known
    suite = read_suites(home, [find_suite(home, record.suite)])[0][0]
    case = suite.case(record.case.partition("[")[0])
    if case is None:
        return known
    found: dict[str, Any] = {}
    with open_ledger(home.ledger_path) as ledger:
        for step in case.written:
            if step.id == record.step:
                break
            if step.operation is None:
                continue
            query = ExchangeQuery(
                operation=step.operation.id,
                contract=step.operation.contract,
                of_a_suite=True,
                newest_first=True,
                answered=True,
                limit=_LOOKED_AT,
            )
            place = record.suite, case.id, step.id
            earlier = next(
                (
                    one
                    for one in ledger.exchanges(query)
                    if one.id < record.id and (one.suite, one.case.partition("[")[0], one.step) == place
                ),
                None,
            )
            if earlier is None or earlier.exchange is None:
                continue
            value = _answer_or_nothing(home, earlier)
            scope = Scope({}, exchange=earlier.exchange, response_value=value)
            outputs = {name: evaluate(parse_expression(text), scope) for name, text in step.outputs}
            outputs = {name: one for name, one in outputs.items() if one is not ABSENT}
            found |= {f"steps.{step.id}.{name}": one for name, one in outputs.items()}
            made = values_made(step.id, step.operation, earlier.exchange, value, outputs.values())
            found |= {f"{MADE}{place}": one for place, one in made.items()}
    return {**found, **known}


def _answer_or_nothing(home: Workspace, record: ExchangeRecord) -> Any:
    assert record.exchange is not None
    try:
        return answer_value(home, record, record.exchange)
    except UsageError:
        return ABSENT


_LOOKED_AT = 500
"""Exchanges of an operation among which that of a step is looked for."""


def _whole(record: ExchangeRecord) -> None:
    """UsageError where only what an answer says was kept, because it held a secret."""
    if record.response_form is BodyForm.DECODED:
        raise UsageError(
            f"exchange {record.id} contained a secret, so only its decoded values are stored",
            mend="keep a response without a secret",
        )


def is_step(home: Workspace, record: ExchangeRecord) -> bool:
    """Whether an exchange was a step of a suite that is there."""
    if not record.suite or not record.step or "/" in record.step:
        return False
    return record.suite in {suite_name(path, home) for path in suite_paths(home)}


def saved_as_step(home: Workspace, record: ExchangeRecord, where: str) -> ExchangeRecord:
    """An exchange, recorded or called, made a step of a case, held to the outcome it had; UsageError when
    nobody knows what it calls.
    """
    suite, case = place_of(where)
    contract = home.contract(record.contract) if record.contract in home.contract_names() else None
    operation = contract.operation(record.operation) if contract else None
    if contract is None or operation is None or record.exchange is None:
        raise UsageError(
            f"exchange {record.id} belongs to no known operation",
            mend="import its definition, and judge it: juxtalogos audit FILE",
        )
    wire, request = wire_of(contract), record.exchange.request
    bases = _bases(request.url)
    base = next((one for one in bases if operation in wire.match(request, one)), None)
    if base is None:
        raise UsageError(
            f"exchange {record.id} does not match the declaration of {operation.id}",
            mend=f"call it instead: juxtalogos call {shlex.quote(operation.id)}",
        )
    inputs = wire.inputs_of(operation, request, base)
    told = str(inputs.values) + str(inputs.body)
    if MASK in told:
        raise UsageError(
            f"exchange {record.id} contained a secret, which is not stored",
            mend="call the operation instead, with an input for the secret",
        )
    outcome = outcome_seen(record.exchange, wire.decode(operation, record.exchange))
    _, step = save_call(
        home.suites,
        where,
        contract,
        operation,
        inputs,
        (),
        record.role,
        criteria_of(outcome, wire, operation),
    )
    with open_ledger(home.ledger_path, write=True) as ledger:
        ledger.assign(record.id, suite, case, step)
    return replace(record, suite=suite, case=case, step=step)


def _bases(url: str) -> list[str]:
    """What a URL may be below: its origin, and each part of its path."""
    scheme, _, rest = url.partition("?")[0].partition("://")
    origin, *parts = rest.split("/")
    return ["/".join([f"{scheme}://{origin}", *parts[:count]]) for count in range(len(parts))]


def renew(
    out: Terminal,
    home: Workspace,
    record: ExchangeRecord,
    name: str,
    *,
    yes: bool,
    twice: bool = False,
    yes_to: str = "",
) -> int:
    """Shows what changes, and takes the answer in place of the one kept if that is wanted; with `twice` what
    differs when the call is made again is allowed. Gives the exit status.
    """
    assert record.exchange is not None
    _whole(record)
    value = answer_value(home, record, record.exchange)
    found = read_kept(home.root, name).differences(value, _values_of(home, record))
    for text in found:
        out.line(("changed: ", "remark"), text)
    if twice:
        before = read_rules(home.root, record.contract, record.operation)
        allowed = _seen_again(home, record, value, before, yes_to)
        _tell_rules(out, allowed, before, twice=True)
        if allowed != before:
            write_rules(home.root, record.contract, record.operation, allowed)
    if not found:
        out.line((name, "name"), "  is the same; nothing to renew")
        return EXIT_HELD
    if not yes and not confirmed(f"accept {counted(len(found), 'difference')}?"):
        out.note(("nothing was written; --yes accepts the differences", "remark"))
        return EXIT_FAILED
    write_kept(home.root, name, record.contract, record.operation, value, _values_of(home, record))
    out.line("renewed: ", (name, "name"), f"  {counted(len(found), 'difference')} accepted")
    return EXIT_HELD


def _with_created(home: Workspace, record: ExchangeRecord, value: Any, before: Allowed) -> Allowed:
    """What a call that is not safe makes may be made anew each time."""
    known = record.contract in home.contract_names()
    made = made_places(
        record, home.contract(record.contract).operation(record.operation) if known else None, value
    )
    return replace(before, created=tuple(dict.fromkeys([*before.created, *made])))


def _seen_again(
    home: Workspace, record: ExchangeRecord, value: Any, allowed: Allowed, yes_to: str
) -> Allowed:
    """The rules under which the answers of two more calls are the same as the one kept."""
    known = _values_of(home, record)
    for other, values in _again(home, record, yes_to):
        allowed = proposed(value, other, allowed, known, values)
    return allowed


def _made_again(session: Session, contract: Contract, operation: Operation, kept: Request) -> Request:
    """The request of an operation, made from the inputs of a kept one: the ledger itself is never sent."""
    wire, base_url = wire_of(contract), session.base_url(contract)
    if operation.id in (found.id for found in wire.match(kept, base_url)):
        try:
            return session.encoded(contract, operation, wire.inputs_of(operation, kept, base_url))
        except (JuxtalogosError, ValueError, LookupError):
            pass
    raise UsageError(
        f"the kept request is no call of {operation.id} at {base_url}",
        mend=f"call it again: juxtalogos call {shlex.quote(operation.id)}, then pin --whole --twice",
    )


def _takes_values(home: Workspace, record: ExchangeRecord) -> bool:
    """Whether the step of a kept exchange takes values of earlier steps: alone it would always ask for the
    same.
    """
    paths = [path for path in suite_paths(home) if suite_name(path, home) == record.suite]
    for suite in read_suites(home, paths)[0] if record.suite and paths else ():
        case = suite.case(record.case.partition("[")[0])
        step = case.step(record.step) if case is not None else None
        if step is not None:
            return any(text.startswith("$steps.") for _, text in step.flows)
    return False


def _again(home: Workspace, record: ExchangeRecord, yes_to: str) -> Iterator[tuple[Any, dict[str, Any]]]:
    """(answer, values its run knew) of a safe operation called again; of one that changes something, or that
    takes values of earlier steps, its whole case is run twice.
    """
    assert record.exchange is not None
    contract = home.contract(record.contract)
    operation = contract.operation(record.operation)
    if operation is not None and operation.safe and not _takes_values(home, record):
        with open_ledger(home.ledger_path) as ledger:
            target = target_again(home, ledger.run(record.run).target, [contract.name])
        session = open_session(
            {contract.name: contract}, target, home.root, config=home.config, identity=Identity(record.role)
        )
        request = _made_again(session, contract, operation, record.exchange.request)

        async def send() -> Exchange:
            async with Transport(session.options) as transport:
                return await session.send(contract, operation, request, transport)

        again = session.redactor.exchange(asyncio.run(send()))
        if again.response is None:
            raise UsageError(f"the second call received no response: {again.error}", mend="leave --twice out")
        yield answer_value(home, record, again), _values_of(home, replace(record, exchange=again))
        return
    if not record.suite or not record.step or "/" in record.step:
        raise UsageError(
            (f"{record.operation} is not safe, and its exchange is not part of a case that can be run again"),
            mend="first save it in a case: juxtalogos call ... --save SUITE#CASE",
        )
    case = record.case.partition("[")[0]
    with open_ledger(home.ledger_path, write=True) as ledger:
        target = target_again(home, ledger.run(record.run).target, [record.contract])
        target = agreed(target, yes_to, writes=True)
        for _ in range(2):
            run = run_again(home, ledger, record.suite, case, target, record.role)
            found = [
                call
                for call in ledger.exchanges(ExchangeQuery(run=run, operation=record.operation))
                if (call.case.partition("[")[0], call.step) == (case, record.step)
            ]
            came = next((item for item in found if item.case == record.case), found[0] if found else None)
            if came is None or came.exchange is None or came.exchange.response is None:
                raise UsageError(
                    f"run {run} has no response of {record.step}",
                    mend="make the case run first, or leave --twice out",
                )
            yield answer_value(home, came, came.exchange), _values_of(home, came)


def _tell_rules(out: Terminal, allowed: Allowed, before: Allowed, *, twice: bool) -> None:
    words = (
        (allowed.created, before.created, "generated by each call: any value of its type"),
        (allowed.any_of_type, before.any_of_type, "any value of its type"),
        (allowed.ignore, before.ignore, "left out of the comparison"),
    )
    fresh = [(path, told) for now, then, told in words for path in now if path not in then]
    if not fresh and twice:
        out.line("the second response was the same")
    for path, told in fresh:
        out.line(("may differ: ", "remark"), (path or "the body", "name"), f"  {told}")
