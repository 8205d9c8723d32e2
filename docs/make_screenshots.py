"""Pictures of each main command's output and of the report, from the demo data. Run: python
docs/make_screenshots.py

Needs Debian's xvfb, xterm, imagemagick, fonts-dejavu and chromium.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import tempfile
import threading
import time
from importlib import resources
from pathlib import Path

from juxtalogos.demo.planted import planted_names
from juxtalogos.demo.server import KEY, base_url, make_server

PICTURES = Path(__file__).with_name("screenshots")
DISPLAY = ":97"
SHOTS = {
    "show": "show announcePortCall",
    "skeleton": "skeleton announcePortCall --full",
    "call": "call getBerth --set berthId=B2",
    "dependencies": "compose --dependencies",
    "run": "run berths --jobs 8",
    "learn": "compose berths --learn=writing --target local",
    "coverage": "coverage",
    "exchanges": "exchanges --finding any --path port-calls",
    "explore": "explore registerVessel listVessels --target quayside --token harbour",
    "pin": "pin --list --exchange @getBerth",
    "suite": "suite show berths#flow-vessels",
    "import": "import ../broken.yaml",
    "soap": "call tideGate --set body/gate=north -C ../office",
    "odata": "show registry -C ../registrar",
    "audit": "audit ../morning.har --contract berths --target local",
}
_BROKEN = (
    ("pattern: '^V-\\d{4}$'", "pattern: '^V-[\\d{4}$'"),
    ("'#/components/schemas/Closing'", "'#/components/schemas/Closed'"),
    ("required: true\n          schema: {$ref: '#/components/schemas/BerthId'}", "schema: {type: text}"),
)


def main() -> None:
    wanted = sys.argv[1:] or [*SHOTS, "demo", "report", "report-exchange", "handover"]
    PICTURES.mkdir(exist_ok=True)
    server = make_server(0, planted_names("all"))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    os.environ.update(
        DISPLAY=DISPLAY,
        TERM="xterm-256color",
        MERROW_KEY=KEY,
        PATH=f"{Path(sys.executable).parent}:{os.environ['PATH']}",
    )
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory() as scratch:
            home = _workspace(Path(scratch), base_url(server))
            for name in wanted:
                if name == "explore":
                    _explored(name, home)
                elif name in SHOTS:
                    _terminal(name, f"jux {SHOTS[name]}", home)
                elif name == "demo":
                    _terminal(name, "jux demo | tail -n 41", home, wait=45)
                else:
                    _page(name, home)
    finally:
        screen.terminate()
        server.shutdown()


def _explored(name: str, home: Path) -> None:
    """Of a harbour with two deviations only, so that all of it is on one screen."""
    server = make_server(0, planted_names("lax,overfull"))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        words = ["targets", "set", "quayside", base_url(server), "--credential", "harbourKey=env:MERROW_KEY"]
        subprocess.run(["jux", *words, "-C", str(home)], check=True, capture_output=True)
        _terminal(name, f"jux {SHOTS[name]}", home)
    finally:
        server.shutdown()


def _workspace(scratch: Path, url: str) -> Path:
    text = resources.files("juxtalogos.demo").joinpath("berths.yaml").read_text("utf-8")
    (scratch / "berths.yaml").write_text(text, "utf-8")
    for before, after in _BROKEN:
        assert before in text, before
        text = text.replace(before, after)
    (scratch / "broken.yaml").write_text(text, "utf-8")
    home = scratch / "harbour"
    for words in (
        ["init", home],
        ["import", scratch / "berths.yaml", "-C", home],
        ["targets", "set", "local", url, "--credential", "harbourKey=env:MERROW_KEY", "-C", home],
    ):
        subprocess.run(["jux", *map(str, words)], check=True, capture_output=True)
    for words in (
        ["compose"],
        ["run", "berths"],
        ["report"],
        ["exchanges", "--path", "berths", "--har", str(scratch / "morning.har")],
    ):
        subprocess.run(["jux", *words, "-C", str(home)], capture_output=True, check=False)
    _office(scratch, url.replace("/v1", "/pilotage"))
    _registrar(scratch, url.replace("/v1", "/registry/v4"))
    return home


def _registrar(scratch: Path, url: str) -> None:
    """A workspace with the OData service."""
    home = scratch / "registrar"
    for words in (
        ["init", home],
        ["import", url, "-C", home],
        ["targets", "set", "quayside", url, "-C", home],
    ):
        subprocess.run(["jux", *map(str, words)], check=True, capture_output=True)


def _office(scratch: Path, url: str) -> None:
    """A workspace with the SOAP service."""
    for name in ("pilotage.wsdl", "pilotage-types.xsd"):
        (scratch / name).write_bytes(resources.files("juxtalogos.demo").joinpath(name).read_bytes())
    office = scratch / "office"
    for words in (
        ["init", office],
        ["import", scratch / "pilotage.wsdl", "-C", office],
        ["targets", "set", "quayside", url, "-C", office],
    ):
        subprocess.run(["jux", *map(str, words)], check=True, capture_output=True)


def _terminal(name: str, command: str, home: Path, wait: float = 40) -> None:
    done = home.parent / f"{name}.done"
    shown = shlex.quote("$ " + command.partition(" |")[0])
    line = (
        f"cd {shlex.quote(str(home))}; printf '%s\\n' {shown}; {command}; touch {shlex.quote(str(done))};"
        " sleep 100"
    )
    window = subprocess.Popen(
        [
            "xterm",
            "-tn",
            "xterm-256color",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "11",
            "-geometry",
            "140x44+0+0",
            "-bg",
            "#fbfcfc",
            "-fg",
            "#17242d",
            "-e",
            "bash",
            "-c",
            line,
        ]
    )
    deadline = time.monotonic() + wait
    while not done.exists() and time.monotonic() < deadline:
        time.sleep(0.2)
    time.sleep(0.7)
    subprocess.run(["import", "-window", "root", str(PICTURES / f"{name}.png")], check=True)
    window.terminate()
    window.wait()


def _page(name: str, home: Path) -> None:
    if name == "handover":
        words = ["show", "berths", "--form", "handover", "--output", "reports/handover.html", "-C", str(home)]
        subprocess.run(["jux", *words], check=True, capture_output=True, cwd=home)
        _picture(name, home / "reports" / "handover.html", home)
        return
    page = next(iter((home / "reports").glob("*.html")))
    if name == "report-exchange":
        # Headless pictures of a scrolled page are blank: a copy that begins with the exchange is taken.
        text = page.read_text("utf-8")
        chosen = text.rindex("<details", 0, text.index('data-findings="body.pattern'))
        start = text.index('<details class="exchange"')
        text = text[:start] + text[chosen:].replace("<details", "<details open", 1)
        text = re.sub(r'<section id="(findings|cases|coverage)">.*?</section>', "", text, flags=re.DOTALL)
        page = page.with_name("exchange.html")
        page.write_text(text, "utf-8")
    _picture(name, page, home)


def _picture(name: str, page: Path, home: Path) -> None:
    options = [
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--hide-scrollbars",
        "--disable-background-networking",
        "--virtual-time-budget=4000",
        f"--user-data-dir={home.parent / name}",
    ]
    subprocess.run(
        [
            "chromium",
            *options,
            "--window-size=1280,800",
            f"--screenshot={PICTURES / f'{name}.png'}",
            page.as_uri(),
        ],
        check=True,
        capture_output=True,
        timeout=60,
    )


if __name__ == "__main__":
    main()
