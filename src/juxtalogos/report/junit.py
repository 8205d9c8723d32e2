"""JUnit XML: a suite is a testsuite, a case a testcase; failures list the checks that did not hold."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from datetime import UTC, datetime
from xml.etree import ElementTree

from juxtalogos.ledger import ReportedValue
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.state import state_lines
from juxtalogos.report.view import RunView
from juxtalogos.run.gate.state import ServiceState

_NOT_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_MARKS = {
    Verdict.FAILED: "failure",
    Verdict.ERROR: "error",
    Verdict.SKIPPED: "skipped",
    Verdict.UNPROVEN: "skipped",
    Verdict.REFUSED: "skipped",
}


def junit(data: RunView) -> bytes:
    """The run as JUnit XML."""
    root = ElementTree.Element("testsuites", name="juxtalogos")
    suites: dict[str, list[ElementTree.Element]] = {}
    times: defaultdict[str, float] = defaultdict(float)
    details = _details(data)
    reported: defaultdict[tuple[str, str], list[ReportedValue]] = defaultdict(list)
    for value in data.reported:
        reported[value.suite, value.case].append(value)
    for case in data.cases:
        element = ElementTree.Element(
            "testcase",
            name=_clean(case.case),
            classname=_clean(case.suite.replace("/", ".")),
            time=f"{case.seconds:.3f}",
        )
        told = reported.get((case.suite, case.case))
        if told:
            properties = ElementTree.SubElement(element, "properties")
            for entry in told:
                ElementTree.SubElement(
                    properties,
                    "property",
                    name=_clean(f"{entry.step} {entry.name}"),
                    value=_clean(entry.value),
                )
        mark = _MARKS.get(case.verdict)
        if mark:
            detail = ElementTree.SubElement(
                element,
                mark,
                message=_clean(f"{case.verdict}: {case.reason}" if case.reason else str(case.verdict)),
            )
            detail.text = _clean("\n".join(details.get((case.suite, case.case), ())))
        suites.setdefault(case.suite, []).append(element)
        times[case.suite] += case.seconds
    stamp = datetime.fromtimestamp(data.run.started, UTC).isoformat(timespec="seconds")
    for name, elements in suites.items():
        counts = Counter(child.tag for element in elements for child in element)
        suite = ElementTree.SubElement(
            root,
            "testsuite",
            name=_clean(name),
            tests=str(len(elements)),
            failures=str(counts["failure"]),
            errors=str(counts["error"]),
            skipped=str(counts["skipped"]),
            time=f"{times[name]:.3f}",
            timestamp=stamp,
        )
        if data.state is not None:
            _tell_state(suite, data.state)
        suite.extend(elements)
    ElementTree.indent(root)
    text: bytes = ElementTree.tostring(root, encoding="utf-8", xml_declaration=True)
    return text + b"\n"


def _tell_state(suite: ElementTree.Element, state: ServiceState) -> None:
    """Whether the service is as it was before the run, as properties."""
    told: dict[str, list[str]] = {"state of the service": [str(state.verdict)]}
    for line in state_lines(state):
        name = "state of the service, in detail"
        told.setdefault(name, []).append(f"{line.label} {line.text.strip()}".strip())
    properties = ElementTree.SubElement(suite, "properties")
    for name, lines in told.items():
        ElementTree.SubElement(properties, "property", name=name, value=_clean("; ".join(lines)))


def _details(data: RunView) -> dict[tuple[str, str], list[str]]:
    """By case: what did not hold, and why steps without checks ended as they did."""
    rows: dict[tuple[str, str], list[str]] = {}
    for record in data.exchanges():
        told = [
            f"{record.step} {result.kind} at {result.at}: declared {result.declared}; observed"
            f" {result.observed}"
            + (f" ({where})" if (where := data.where(record, result)) else "")
            + (f"; {result.detail}" if result.detail else "")
            for result in record.results
            if result.is_finding
        ]
        if not record.results and record.reason:
            told.append(f"{record.step} {record.verdict}: {record.reason}")
        if told:
            rows.setdefault((record.suite, record.case), []).extend(told)
    return rows


def _clean(text: str) -> str:
    """XML 1.0 cannot hold control characters and lone surrogates, escaped or not."""
    return _NOT_XML.sub("\ufffd", text)
