"""Metadata of data services: import, list and compose, for n entity types and for 2n, as processes.

    python benchmarks/metadata.py [TYPES] [--compose]

Each type has twenty properties and six navigation properties, three of them collections, and an entity set:
36 operations. Composing
takes minutes for hundreds of types, so it is measured only when asked for.
"""

from __future__ import annotations

import argparse
import resource
import subprocess
import sys
import tempfile
from pathlib import Path

KINDS = ('Edm.String" MaxLength="40', 'Edm.Decimal" Precision="9" Scale="2', "Edm.Date", "Edm.Boolean")


def metadata(types: int) -> str:
    """Metadata of so many entity types that lead to one another."""
    parts = [
        '<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>',
        '<Schema Namespace="Merrow.Many" xmlns="http://docs.oasis-open.org/odata/ns/edm">',
    ]
    sets = []
    for number in range(types):
        parts.append(
            f'<EntityType Name="T{number}"><Key><PropertyRef Name="Id{number}"/></Key><Property'
            f' Name="Id{number}" Type="Edm.Int32" Nullable="false"/>'
        )
        for each in range(20):
            said = (
                f"what property {each} of the made-up type {number} is for, at some length, since real"
                " metadata has such texts"
            )
            parts.append(
                f'<Property Name="P{each}Of{number}" Type="{KINDS[each % 4]}"><Annotation'
                f' Term="Org.OData.Core.V1.Description" String="{said}"/></Property>\n'
            )
        bound = []
        for step in (1, 7, 31):
            one, many = (number + step) % types, (number * step + 1) % types
            parts.append(
                f'<NavigationProperty Name="N{step}" Type="Merrow.Many.T{one}"/><NavigationProperty'
                f' Name="C{step}" Type="Collection(Merrow.Many.T{many})"/>'
            )
            bound.append(
                f'<NavigationPropertyBinding Path="N{step}" Target="S{one}"/><NavigationPropertyBinding'
                f' Path="C{step}" Target="S{many}"/>'
            )
        parts.append("</EntityType>")
        sets.append(
            f'<EntitySet Name="S{number}" EntityType="Merrow.Many.T{number}">{"".join(bound)}</EntitySet>'
        )
    return "".join(
        [
            *parts,
            '<EntityContainer Name="Many">',
            *sets,
            "</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>",
        ]
    )


def seconds(*words: str, home: Path) -> float:
    """Processor seconds of a command."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(
        [sys.executable, "-m", "juxtalogos", *words, "-C", str(home)], check=True, capture_output=True
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("types", type=int, nargs="?", default=750)
    parser.add_argument("--compose", action="store_true")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / "work"
        subprocess.run(
            [sys.executable, "-m", "juxtalogos", "init", str(home)], check=True, capture_output=True
        )
        rows: dict[str, list[float]] = {}
        for types in (args.types, 2 * args.types):
            file = Path(folder) / f"t{types}.edmx"
            file.write_text(metadata(types), "utf-8")
            print(f"{types} types, {file.stat().st_size / 1e6:.1f} MB")
            rows.setdefault("import", []).append(seconds("import", str(file), home=home))
            rows.setdefault("show the contract", []).append(seconds("show", f"t{types}", home=home))
            rows.setdefault("show an operation", []).append(seconds("show", f"t{types}:S7.list", home=home))
            if args.compose:
                rows.setdefault("compose", []).append(seconds("compose", f"t{types}", home=home))
        for what, (small, large) in rows.items():
            print(f"{what:20} {small:7.2f} s {large:7.2f} s   {large / small:.2f} times")


if __name__ == "__main__":
    main()
