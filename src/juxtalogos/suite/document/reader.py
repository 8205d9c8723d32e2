"""Reading suites: Arazzo 1.0.1 documents -> `Suite`s, every fault told before anything is sent."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from juxtalogos.documents.load import load_document
from juxtalogos.model.contract import Contract
from juxtalogos.model.document import Document
from juxtalogos.model.errors import DocumentError, SuiteError, nearest, quoted
from juxtalogos.model.location import Location, follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.schema.json import InlineSchemas, JsonSchema
from juxtalogos.suite.document.building import COMPOSED, is_as_composed
from juxtalogos.suite.document.node_reader import KnownNames, NodeReader
from juxtalogos.suite.document.selection import needed_steps
from juxtalogos.suite.document.step_reader import ID, StepReader
from juxtalogos.suite.kept_answers import KeptAnswer, read_kept
from juxtalogos.suite.language.formulas import BadFormula, Formula, parse_formula
from juxtalogos.suite.model import Case, CaseKey, Step, Suite, TableSource
from juxtalogos.suite.parameters import SharedParameter, is_of
from juxtalogos.workspace.files import read_inside
from juxtalogos.workspace.workspace import Workspace

ENDINGS = (".arazzo.yaml", ".arazzo.yml", ".arazzo.json")
_ROOT_KEYS = ("arazzo", "info", "sourceDescriptions", "workflows", "components", "x-juxtalogos-variables")
_CASE_KEYS = (
    "workflowId",
    "summary",
    "description",
    "inputs",
    "dependsOn",
    "steps",
    "successActions",
    "failureActions",
    "outputs",
    "parameters",
    "x-juxtalogos-table",
    "x-juxtalogos-setup",
    "x-juxtalogos-tags",
    "x-juxtalogos-alone",
    "x-juxtalogos-in-turn",
    "x-juxtalogos-disabled",
    COMPOSED,
)


def suite_paths(workspace: Workspace) -> list[Path]:
    return sorted(path for path in workspace.suites.rglob("*") if path.name.endswith(ENDINGS))


def suite_name(path: Path, workspace: Workspace) -> str:
    return path.relative_to(workspace.suites).as_posix().rpartition(".arazzo.")[0]


def find_suite(workspace: Workspace, name: str) -> Path:
    """SuiteError when there is none of that name."""
    by_name = {suite_name(path, workspace): path for path in suite_paths(workspace)}
    if name not in by_name:
        mend = nearest(name, by_name) or "compose one: juxtalogos compose CONTRACT"
        raise SuiteError(f"there is no suite {quoted(name)}", where=str(workspace.suites), mend=mend)
    return by_name[name]


def read_suites(
    workspace: Workspace, paths: Iterable[Path]
) -> tuple[list[Suite], dict[CaseKey, tuple[Suite, Case]]]:
    """(the suites, every case that these lead to); SuiteError at the first fault."""
    library = Library(workspace)
    suites = [library.suite(path) for path in paths]
    cases = {case.key: (suite, case) for suite in library.suites.values() for case in suite.cases}
    check_needs(cases)
    return suites, cases


class Library:
    """Suites by file, each read once; one may lead into others."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.suites: dict[Path, Suite] = {}
        self.documents: dict[Path, Document] = {}

    def suite(self, path: Path) -> Suite:
        """The suite of a file, read once."""
        path = path.resolve()
        if path not in self.suites:
            self.suites[path] = _SuiteReader(self, path, self.document(path)).suite()
            for other in self.suites[path].related:
                self.suite(other)
        return self.suites[path]

    def document(self, path: Path) -> Document:
        """The document of a file within the workspace, read once."""
        if path not in self.documents:
            root = self.workspace.root.resolve()
            if not path.is_relative_to(root):
                raise SuiteError(
                    "this file lies outside the workspace", where=str(path), mend="keep suites in suites/"
                )
            relative = path.relative_to(root).as_posix()
            try:
                self.documents[path] = load_document(relative, read_inside(root, relative))
            except DocumentError as error:
                raise SuiteError(error.what, where=error.where, mend=error.mend) from None
        return self.documents[path]


class _SuiteReader(NodeReader):
    def __init__(self, library: Library, path: Path, document: Document) -> None:
        super().__init__(document)
        self.library = library
        self.workspace = library.workspace
        self.path = path
        self.contracts: dict[str, Contract] = {}
        self.names: dict[str, dict[str, str]] = {}
        self.others: dict[str, Path] = {}
        """Arazzo documents by the name of their source."""
        self.components: dict[str, Any] = {}
        self.case_ids: list[str] = []
        self.schemas = InlineSchemas(document.uri, document.value)

    def suite(self) -> Suite:
        root = Location(self.document.uri)
        value = self.mapping(self.document.value, root, "the document")
        version = value.get("arazzo")
        if not isinstance(version, str) or not version.startswith("1.0"):
            self.fail(
                f"this is no Arazzo 1.0 document (`arazzo: {quoted(version)}`)",
                root.child("arazzo"),
                "write `arazzo: 1.0.1` at the top",
            )
        self.keys(value, _ROOT_KEYS, root)
        info = self.mapping(value.get("info"), root.child("info"), "`info`")
        for index, source in enumerate(self.listing(value, "sourceDescriptions", root, needed=True)):
            self.source(source, root.child("sourceDescriptions", index))
        self.components = self.mapping(value.get("components", {}), root.child("components"), "`components`")
        self.keys(
            self.components,
            ("inputs", "parameters", "successActions", "failureActions"),
            root.child("components"),
        )
        variables = self.mapping(
            value.get("x-juxtalogos-variables", {}),
            root.child("x-juxtalogos-variables"),
            "`x-juxtalogos-variables`",
        )
        for name, written in variables.items():
            self.parameter(written, root.child("x-juxtalogos-variables", name))
        workflows = self.listing(value, "workflows", root, needed=True)
        self.case_ids = [
            str(workflow.get("workflowId")) for workflow in workflows if isinstance(workflow, dict)
        ]
        cases = tuple(self.case(item, root.child("workflows", index)) for index, item in enumerate(workflows))
        related = tuple(path for path in self.others.values() if path != self.path)
        path = self.path
        base = self.workspace.suites.resolve()
        name = (
            path.relative_to(base).as_posix().rpartition(".arazzo.")[0]
            if path.is_relative_to(base)
            else path.stem
        )
        return Suite(
            name,
            path,
            self.document,
            cases,
            str(info.get("title", "")),
            self.names,
            self.components,
            variables,
            self.namespaces,
            related,
        )

    def parameter(self, written: Any, at: Location) -> None:
        """A formula that is none, or a value of another type than declared, is refused."""
        one = SharedParameter.of(written)
        try:
            if one.formula:
                parse_formula(one.formula)
        except BadFormula as error:
            self.fail(f"no formula: {error}", at, "see docs/suites.md for formulas")
        if one.value is not ABSENT and not is_of(one.value, one.kind):
            self.fail(f"the value is not of type {one.kind}", at, "change the value, or the type")

    def source(self, value: Any, at: Location) -> None:
        source = self.mapping(value, at, "a source description")
        self.keys(source, ("name", "url", "type", "x-juxtalogos-namespaces"), at)
        name, url = source.get("name"), source.get("url")
        if not isinstance(name, str) or not ID.fullmatch(name) or not isinstance(url, str):
            self.fail(
                "a source description needs a `name` of letters, digits, _ and -, and a `url`", at, "add them"
            )
        if name in self.names:
            self.fail(f"the source {quoted(name)} stands twice", at.child("name"), "make its name unique")
        self.names[name] = {"url": url, "name": name, "type": str(source.get("type", ""))}
        spaces = self.mapping(
            source.get("x-juxtalogos-namespaces", {}),
            at.child("x-juxtalogos-namespaces"),
            "`x-juxtalogos-namespaces`",
        )
        self.namespaces.update({str(prefix): str(uri) for prefix, uri in spaces.items()})
        if source.get("type") == "arazzo":
            self.others[name] = self.other(url, at.child("url"))
        else:
            self.contracts[name] = self.contract(name, url, at)

    def other(self, url: str, at: Location) -> Path:
        path = (self.path.parent / url).resolve()
        if "://" in url or not path.is_file() or not path.is_relative_to(self.workspace.root.resolve()):
            self.fail(
                f"there is no suite at {quoted(url)} in this workspace",
                at,
                "write its path relative to this file",
            )
        return path

    def contract(self, name: str, url: str, at: Location) -> Contract:
        """By where the URL leads, else by where a contract came from, else by the source's name."""
        names = self.workspace.contract_names()
        place, definitions = (self.path.parent / url).resolve(), self.workspace.definitions.resolve()
        inside = place.is_relative_to(definitions) and place != definitions
        chosen = place.relative_to(definitions).parts[0] if inside else name
        if chosen not in names and not inside:
            came = {str(self.workspace.origin(word).get("source")): word for word in names}
            chosen = came.get(url, chosen)
        if chosen not in names:
            mend = nearest(chosen, names) or "import its definition: juxtalogos import SOURCE"
            self.fail(f"the source {quoted(name)} is no imported contract", at.child("url"), mend)
        return self.workspace.contract(chosen)

    def case(self, value: Any, at: Location) -> Case:
        case = self.mapping(value, at, "a workflow")
        self.keys(case, _CASE_KEYS, at)
        case_id = case.get("workflowId")
        if not isinstance(case_id, str) or not ID.fullmatch(case_id):
            self.fail("a workflow needs a `workflowId` of letters, digits, _ and -", at, "add one")
        if self.case_ids.count(case_id) > 1:
            self.fail(
                f"the workflowId {quoted(case_id)} stands {self.case_ids.count(case_id)} times",
                at.child("workflowId"),
                "make it unique",
            )
        items = self.listing(case, "steps", at, needed=True)
        reader = StepReader(
            self, self, [str(entry.get("stepId")) for entry in items if isinstance(entry, dict)]
        )
        shared = self.listing(case, "parameters", at)
        steps = [reader.step(item, at.child("steps", index), shared, at) for index, item in enumerate(items)]
        known = reader.known()
        outputs = self.mapping(case.get("outputs", {}), at.child("outputs"), "`outputs`")
        for name, text in outputs.items():
            self.expression(text, at.child("outputs", name), known)
        defaults, formulas = self.inputs(case.get("inputs"))
        schema = self.schema_at(case["inputs"], at.child("inputs")) if "inputs" in case else None
        setup = self.setup(case, at, steps)
        return Case(
            case_id,
            tuple(step for step in steps if not step.disabled),
            at,
            CaseKey(self.document.uri, case_id),
            str(case.get("summary", "")),
            str(case.get("description", "")),
            tuple(map(str, self.listing(case, "x-juxtalogos-tags", at))),
            defaults,
            formulas,
            schema,
            schema.member_types() if schema is not None else {},
            tuple(
                self.case_key(str(text), at.child("dependsOn", index))
                for index, text in enumerate(self.listing(case, "dependsOn", at))
            ),
            reader.actions(case, "successActions", at, known),
            reader.actions(case, "failureActions", at, known),
            tuple(outputs.items()),
            self.table(case.get("x-juxtalogos-table"), at.child("x-juxtalogos-table")),
            setup,
            _undoing(steps, setup),
            case.get("x-juxtalogos-alone") is True,
            is_as_composed(case),
            tuple(steps),
            case.get("x-juxtalogos-disabled") is True,
            tuple(map(str, self.listing(case, "x-juxtalogos-in-turn", at))),
        )

    def inputs(self, value: Any) -> tuple[dict[str, Any], dict[str, Formula]]:
        """(defaults, formulas) of the declared inputs, those of a referenced component too."""
        defaults: dict[str, Any] = {}
        formulas: dict[str, Formula] = {}
        holder = self._followed(value)
        properties = holder.get("properties") if isinstance(holder, dict) else None
        for name, item in properties.items() if isinstance(properties, dict) else ():
            found = self._followed(item)
            if isinstance(found, dict) and "default" in found:
                defaults[name] = found["default"]
            if isinstance(found, dict) and "x-juxtalogos-value" in found:
                at = Location(self.document.uri)
                formulas[name] = self.formula(found["x-juxtalogos-value"], at, KnownNames(self.names, {}))
        return defaults, formulas

    def _followed(self, value: Any) -> Any:
        for _ in range(20):
            if (
                not isinstance(value, dict)
                or not isinstance(value.get("$ref"), str)
                or not value["$ref"].startswith("#")
            ):
                return value
            try:
                value = follow_pointer(self.document.value, value["$ref"][1:])
            except (LookupError, ValueError):
                return None
        return None

    def schema_at(self, value: Any, at: Location) -> JsonSchema:
        try:
            return self.schemas.schema(at.pointer)
        except ValueError as error:
            self.fail(f"this schema cannot be used: {error}", at, "correct its references")

    def kept(self, name: str) -> KeptAnswer:
        return read_kept(self.workspace.root, name)

    def case_key(self, text: str, at: Location) -> CaseKey:
        """`ID`, or `$sourceDescriptions.NAME.ID` of another document."""
        if not text.startswith("$sourceDescriptions."):
            if text not in self.case_ids:
                self.fail(f"there is no workflow {quoted(text)}", at, nearest(text, self.case_ids))
            return CaseKey(self.document.uri, text)
        name, _, case_id = text[len("$sourceDescriptions.") :].partition(".")
        if name not in self.others:
            self.fail(
                f"there is no Arazzo source {quoted(name)}",
                at,
                nearest(name, self.others) or "add it with `type: arazzo`",
            )
        document = self.library.document(self.others[name])
        value: Any = document.value
        known = (
            [
                str(workflow.get("workflowId"))
                for workflow in value.get("workflows", ())
                if isinstance(workflow, dict)
            ]
            if isinstance(value, dict)
            else []
        )
        if case_id not in known:
            self.fail(f"{quoted(name)} has no workflow {quoted(case_id)}", at, nearest(case_id, known))
        return CaseKey(document.uri, case_id)

    def table(self, value: Any, at: Location) -> TableSource | None:
        if value is None:
            return None
        table = self.mapping(value, at, "`x-juxtalogos-table`")
        self.keys(table, ("file", "query"), at)
        given = [key for key in ("file", "query") if isinstance(table.get(key), str)]
        if len(given) != 1:
            self.fail("a table is a `file` of the workspace or a `query` of juxtalogos.toml", at, "name one")
        return TableSource(given[0], table[given[0]], at)

    def setup(self, case: dict[str, Any], at: Location, steps: list[Step]) -> tuple[str, ...]:
        found = tuple(map(str, self.listing(case, "x-juxtalogos-setup", at)))
        for index, step_id in enumerate(found):
            if steps[index].id != step_id if index < len(steps) else True:
                self.fail(
                    "set-up steps are the first steps of the workflow, in their order",
                    at.child("x-juxtalogos-setup", index),
                    "move them to the front",
                )
        return found


def _undoing(steps: list[Step], setup: tuple[str, ...]) -> frozenset[str]:
    """Clean-up steps of what set-up steps made, and nothing else."""
    cleaning = [step for step in steps if step.always and step.id not in setup]
    return frozenset(step.id for step in cleaning if (needed := needed_steps(step)) and needed <= set(setup))


def check_needs(cases: Mapping[CaseKey, tuple[Suite, Case]]) -> None:
    """SuiteError when cases need one another in a circle."""
    done: set[CaseKey] = set()
    for start in cases:
        _visit(start, cases, [], done)


def _visit(
    key: CaseKey, cases: Mapping[CaseKey, tuple[Suite, Case]], way: list[CaseKey], done: set[CaseKey]
) -> None:
    if key in done or key not in cases:
        return
    if key in way:
        circle = " -> ".join(one.case for one in [*way[way.index(key) :], key])
        where = str(cases[key][0].path)
        raise SuiteError(
            f"`dependsOn` leads round in a circle: {circle}", where=where, mend="take one of them out"
        )
    for needed in cases[key][1].needs:
        _visit(needed, cases, [*way, key], done)
    done.add(key)
