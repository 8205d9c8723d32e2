"""Rules that only SOAP knows: the status of a fault, the one that an answer may have, whether a fault is
declared.
"""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.formats.soap.binding_facts import version_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.wire import Answer


def check_envelope(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """That the answer is an envelope of the right version: told when it held; what did not is among the
    problems.
    """
    broken = {problem.kind for problem in answer.problems}
    if (
        exchange.response
        and exchange.response.body
        and version_of(operation)
        and answer.declared
        and not broken
    ):
        version = f"SOAP {version_of(operation)}"
        yield CheckResult(
            "envelope.version", True, "body", version, version, answer.declared.location, proving=False
        )


def check_fault(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """A fault comes with the status that its protocol gives it, and an answer without one with success.

    SOAP 1.1, section 6.2: 500. SOAP 1.2 part 2, table 20: 400 for Sender, else 500; 500 for Sender is
    accepted.
    """
    response = exchange.response
    if response is None or not version_of(operation) or (answer.declared is None and answer.fault is None):
        return
    location = operation.location
    if answer.fault is None:
        held = 200 <= response.status < 300
        yield CheckResult(
            "status.protocol",
            held,
            "status",
            "2xx with a response that is not a fault",
            str(response.status),
            location,
            proving=False,
        )
        return
    allowed: tuple[str, ...] = ("500",)
    if version_of(operation) == "1.2" and answer.fault.code == "Sender":
        allowed = ("400", "500")
    held = str(response.status) in allowed
    yield CheckResult(
        "status.protocol",
        held,
        "status",
        f"{' or '.join(allowed)} with a fault",
        str(response.status),
        location,
        proving=False,
    )
    declared = " or ".join(answer.fault.declared) or "no fault"
    observed = f"{answer.fault.name or answer.fault.code}: {answer.fault.reason}"[:200]
    # A fault that the WSDL does not name is allowed (WS-I Basic Profile 1.1, R2742), so it is only worth a
    # remark.
    yield CheckResult(
        "fault.undeclared",
        bool(answer.fault.name),
        "body/Fault",
        declared,
        observed,
        answer.declared.location if answer.declared else location,
        Severity.REMARK,
    )
