"""Writes the table of finding kinds into docs/findings.md. Run: python docs/make_findings.py"""

from __future__ import annotations

from pathlib import Path

from juxtalogos.formats import finding_kinds

_MARK = "<!-- kinds: made by docs/make_findings.py -->"


def main() -> None:
    path = Path(__file__).with_name("findings.md")
    head, _, rest = path.read_text("utf-8").partition(_MARK)
    _, _, tail = rest.partition(_MARK)
    rows = "\n".join(f"| `{kind}` | {words} |" for kind, words in finding_kinds().items())
    path.write_text(f"{head}{_MARK}\n\n| kind | what it says |\n|---|---|\n{rows}\n\n{_MARK}{tail}", "utf-8")


if __name__ == "__main__":
    main()
