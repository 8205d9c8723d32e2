"""What a workspace says of every call of an operation: standing checks, and kinds of check that are switched
off with a reason.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from juxtalogos.formats import finding_kinds
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import ConfigError, nearest, quoted
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import Location
from juxtalogos.run.judging.judge import Judgement, verdict_of
from juxtalogos.schema.json import compile_schema
from juxtalogos.suite.checks.form import BadCheck
from juxtalogos.suite.checks.written import WrittenCheck, read_check, run_check
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import BadFormula, FormulaContext
from juxtalogos.workspace.config import Config


@dataclass(frozen=True, slots=True)
class Rules:
    """By operation id; `*` stands for every operation of a contract."""

    standing: Mapping[tuple[str, str], tuple[WrittenCheck, ...]] = field(default_factory=dict)
    off: Mapping[tuple[str, str], Mapping[str, str]] = field(default_factory=dict)
    """Kind of check -> why it is not made."""

    def apply(
        self,
        contract: Contract,
        operation: Operation,
        judgement: Judgement,
        scope: Scope,
        ground: FormulaContext | None = None,
    ) -> Judgement:
        """The judgement with standing checks made and switched-off kinds told instead of counted."""
        keys = ((contract.name, "*"), (contract.name, operation.id))
        off = {kind: reason for key in keys for kind, reason in self.off.get(key, {}).items()}
        checks = [check for key in keys for check in self.standing.get(key, ())]
        if judgement.answer is None or not (off or checks):
            return judgement
        results = tuple(
            _switched_off(result, off[result.kind]) if result.kind in off and not result.held else result
            for result in judgement.results
        )
        results += tuple(run_check(check, scope, ground or FormulaContext()) for check in checks)
        verdict, reason = verdict_of(results)
        return replace(judgement, verdict=verdict, reason=reason, results=results)


def _switched_off(result: CheckResult, reason: str) -> CheckResult:
    return replace(result, held=True, proving=False, detail=f"switched off: {reason}")


def rules_of(config: Config, contracts: Mapping[str, Contract]) -> Rules:
    """ConfigError names what cannot be used, with its place."""
    standing: dict[tuple[str, str], tuple[WrittenCheck, ...]] = {}
    off: dict[tuple[str, str], dict[str, str]] = {}
    for name, contract in contracts.items():
        settings = config.contracts.get(name)
        for index, table in enumerate(settings.standing if settings else ()):
            where = f"{config.path}: [[contracts.{name}.standing]] {index + 1}"
            key = name, _operation(contract, str(table["operation"]), where)
            standing[key] = (
                *standing.get(key, ()),
                _check({k: v for k, v in table.items() if k != "operation"}, where),
            )
        for index, table in enumerate(settings.off if settings else ()):
            where = f"{config.path}: [[contracts.{name}.off]] {index + 1}"
            key = name, _operation(contract, str(table["operation"]), where)
            if table["kind"] not in (kinds := finding_kinds()):
                raise ConfigError(
                    f"there is no kind of check {quoted(table['kind'])}",
                    where=where,
                    mend=nearest(str(table["kind"]), kinds),
                )
            off.setdefault(key, {})[str(table["kind"])] = str(table["reason"])
    return Rules(standing, off)


def _operation(contract: Contract, name: str, where: str) -> str:
    if name != "*" and contract.operation(name) is None:
        known = [operation.id for operation in contract.operations]
        raise ConfigError(
            f"{contract.name} has no operation {quoted(name)}", where=where, mend=nearest(name, known)
        )
    return name


def _check(table: Mapping[str, object], where: str) -> WrittenCheck:
    try:
        return read_check(dict(table), Location(""), lambda value, at: compile_schema(value))
    except (BadCheck, BadFormula) as error:
        raise ConfigError(
            str(error), where=where, mend=getattr(error, "mend", "") or "see docs/suites.md for checks"
        ) from None
