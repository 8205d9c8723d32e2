"""Reports disarm what they show, and open in a browser."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from juxtalogos.ledger import CaseRecord, ExchangeRecord, open_ledger
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.verdict import Verdict
from juxtalogos.report import REPORTERS, run_view


def _record(
    case: str, body: bytes = b"{}", results: tuple[CheckResult, ...] = (), **more: Any
) -> ExchangeRecord:
    exchange = Exchange(
        Request("GET", "http://h/q", (("A", "1"),)),
        Response(200, "OK", (("Content-Type", "application/json"),), body),
        Timings(1, 0.1, 0.2),
    )
    return ExchangeRecord(
        case,
        "s",
        more.get("contract", "quay"),
        more.get("operation", "x"),
        exchange,
        Verdict.FAILED,
        more.get("reason", "why"),
        results,
        suite="suite",
    )


_HOSTILE = (
    '</pre></script><script>document.title="owned"</script><img src=x onerror="alert(1)"> \u202egnp.exe'
    " \x1b[31m {{ 127*127 }} ]]> &amp; \ud800 \x00"
)


def _hostile_report(tmp_path: Path) -> dict[str, bytes]:
    results = (CheckResult("body.type", False, f"body/{_HOSTILE}", _HOSTILE, _HOSTILE),)
    record = _record(
        "c",
        json.dumps({"x": _HOSTILE}).encode(),
        results,
        operation=_HOSTILE.replace("\ud800", ""),
        reason=_HOSTILE.replace("\ud800", ""),
    )
    with open_ledger(tmp_path / "l.sqlite", write=True) as ledger:
        run = ledger.begin("run", "t<b>", "what<b>")
        ledger.add(run, [record], [CaseRecord("suite", "c<i>", Verdict.FAILED, "why\x01", 0.5)])
        ledger.end(run, "failed")
        view = run_view(ledger, run, {})
        return {name: reporter.write(view) for name, reporter in REPORTERS.items()}


def test_reports_disarm_what_they_show(tmp_path: Path) -> None:
    reports = _hostile_report(tmp_path)
    html = reports["html"].decode()
    assert (
        html.count("<script>") == 1
        and html.count("<style>") == 1
        and "<img" not in html
        and "<b>" not in re.sub(r"<b>(\d+|GET|\d+ %)</b>", "", html)
    )
    assert "\u202e" not in html and "\x1b" not in html and "16129" not in html
    assert "http" not in re.sub(r"http://h/q|<meta http-equiv", "", html).split("<body>")[0]
    policy = re.search(r'Content-Security-Policy" content="([^"]*)"', html)
    assert (
        policy
        and policy.group(1).startswith("default-src &#39;none&#39;; style-src &#39;sha256-")
        and "unsafe" not in policy.group(1)
    )
    assert not re.search(r'(src|href)="(?!#)', html)
    suite = ElementTree.fromstring(reports["junit"])
    assert suite.find(".//failure") is not None


def test_the_report_in_a_browser(tmp_path: Path) -> None:
    import os
    import shutil
    import subprocess

    chromium = shutil.which("chromium")
    if chromium is None:
        if os.environ.get("CI"):
            pytest.fail("chromium is missing; .ci/run installs it")
        pytest.skip("chromium is missing (Debian package chromium)")
    page = tmp_path / "report.html"
    page.write_bytes(_hostile_report(tmp_path)["html"])
    command = [
        chromium,
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        f"--user-data-dir={tmp_path / 'profile'}",
        "--virtual-time-budget=2000",
        "--dump-dom",
        f"{page.as_uri()}#x1",
    ]
    done = subprocess.run(command, capture_output=True, timeout=90)
    dom = done.stdout.decode()
    assert "<title>Run 1: 1 findings</title>" in dom, done.stderr.decode()[-300:]
    # Our own script ran (the filter counted, the exchange named in the address is unfolded), the hostile one
    # did not.
    assert "1 of 1" in dom and re.search(r"<details class=\"exchange\"[^>]* open", dom)
