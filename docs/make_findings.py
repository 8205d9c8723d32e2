"""Writes the tables of finding kinds (docs/findings.md) and of laws (docs/exploring.md).

Run: python docs/make_findings.py
"""

from __future__ import annotations

from pathlib import Path

from juxtalogos.formats import finding_kinds
from juxtalogos.model.laws import LAWS


def main() -> None:
    put(
        "findings.md",
        "kinds",
        "| kind | what it says |\n|---|---|",
        [f"| `{kind}` | {words} |" for kind, words in finding_kinds().items()],
    )
    laws = [
        f"| `{one.name}` | {one.told} | {one.why} | {'finding' if one.must else 'doubt'} |"
        for one in LAWS.values()
    ]
    put("exploring.md", "laws", "| law | what must hold | why | class |\n|---|---|---|---|", laws)


def put(name: str, what: str, head_row: str, rows: list[str]) -> None:
    """Writes a table between its two marks."""
    path, mark = Path(__file__).with_name(name), f"<!-- {what}: made by docs/make_findings.py -->"
    head, _, rest = path.read_text("utf-8").partition(mark)
    _, _, tail = rest.partition(mark)
    table = "\n".join([head_row, *rows])
    path.write_text(f"{head}{mark}\n\n{table}\n\n{mark}{tail}", "utf-8")


if __name__ == "__main__":
    main()
