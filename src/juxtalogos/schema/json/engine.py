"""The face of the engine: a schema that checks, accepts, samples, and tells its elements."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, Any

from juxtalogos.model.document import Document
from juxtalogos.model.elements import Element
from juxtalogos.model.findings import Deviation
from juxtalogos.model.schema import NOTHING, Direction, OutlineRow, SchemaRef, Wanted
from juxtalogos.schema.json.check import combining, operators  # noqa: F401  (importing them fills the table)
from juxtalogos.schema.json.check.interpreter import Context, Path, check_node
from juxtalogos.schema.json.tell.elements import hits
from juxtalogos.schema.json.tree.dialects import DIALECTS
from juxtalogos.schema.json.tree.nodes import Members, Node, Rule
from juxtalogos.schema.json.tree.store import BadReference, SchemaStore

if TYPE_CHECKING:
    from juxtalogos.model.schema import Boundary, Mutation
    from juxtalogos.schema.json.check.interpreter import Record
    from juxtalogos.schema.json.compile.compiler import Compiler
    from juxtalogos.schema.json.compile.source import Broken
    from juxtalogos.schema.json.compile.tables import Compiled


class TooDeep(ValueError):
    """A value or schema nested deeper than can be followed: nothing is proven."""


COMPILE_AFTER = 2
"""Uses of a schema that the interpreter serves before compiling it pays."""


class Examination:
    """What one pass over a value told: its deviations, and what it hit, worked out when asked for."""

    __slots__ = ("_read", "_told", "deviations")

    def __init__(
        self,
        deviations: tuple[Deviation, ...],
        read: Callable[[Any], Iterable[str]],
        told: list[Record] | Any,
    ) -> None:
        self.deviations = deviations
        self._read = read
        self._told = told

    @property
    def hits(self) -> frozenset[str]:
        """Ids of the elements that the value exercised."""
        return frozenset(self._read(self._told))


class JsonSchema:
    """One schema in one direction."""

    def __init__(
        self, store: SchemaStore, node: Node, direction: Direction, asserts_format: bool | None = None
    ) -> None:
        self.store = store
        self.node = node
        self.direction = direction
        self.asserts_format = asserts_format
        self.uses = 0
        self.compiler: Compiler | None = None
        self.function: Compiled | None = None
        self.kinds: dict[str, Any] = {}
        """Declared types by place, once they were asked for (view.declared_kinds)."""

    def context(self) -> Context:
        return Context(self.store, self.direction, self.asserts_format)

    def of(self, node: Node) -> JsonSchema:
        """Another schema of the same store, in the same direction."""
        return JsonSchema(self.store, node, self.direction, self.asserts_format)

    def member_types(self) -> dict[str, tuple[str, ...]]:
        """The JSON types that each declared property of an object may have."""
        from juxtalogos.schema.json.tell.profile import View

        view = View(self.node, self.context())
        return {name: view.of(node).kinds for name, node in view.properties.items()}

    def check(self, value: Any) -> tuple[Deviation, ...]:
        """Every deviation, in the order of the value; advisory ones too. TooDeep when it
        cannot be followed.
        """
        return self.examine(value).deviations

    def accepts(self, value: Any) -> bool:
        return all(deviation.advisory for deviation in self.check(value))

    def examine(self, value: Any) -> Examination:
        """Deviations and hits in one pass. Compiled when the schema is used for the third time."""
        try:
            function, compiler = self.function, self.compiler
            if function is None or compiler is None:
                return self._interpret(value)
            compiler.begin()
            records: list[Record] = []
            broken: list[Broken] = []
            if not function(value, records, broken):
                return self._explain(value, compiler)
            if broken:
                return self._explain_items(value, compiler, records, broken)
            return Examination((), compiler.hits, records)
        except RecursionError:
            raise TooDeep("nested too deep to check") from None

    def _interpret(self, value: Any) -> Examination:
        if self.uses < COMPILE_AFTER:
            self.uses += 1
            if self.uses == COMPILE_AFTER:
                self.compile()
        context = self.context()
        check_node(self.node, value, (), context)
        return Examination(tuple(dict.fromkeys(context.deviations)), self._walk, value)

    def _walk(self, value: Any) -> Iterable[str]:
        return hits(self, value)

    def _explain(self, value: Any, compiler: Compiler) -> Examination:
        """The interpreter says what is wrong; the compiler passes it over the sound parts."""
        context = self.context()
        context.compiler, context.hits = compiler, []
        # `home` tells the interpreter that the fast way was tried already.
        check_node(self.node, value, (), context, home=self.node)
        return Examination(tuple(dict.fromkeys(context.deviations)), compiler.hits, context.hits)

    def _explain_items(
        self, value: Any, compiler: Compiler, records: list[Record], broken: list[Broken]
    ) -> Examination:
        """As `_explain`, where a list's broken items are all that is wrong."""
        (way, node), _, _ = broken[0]
        if any(bound[1] is not node for bound, _, _ in broken):
            return self._explain(value, compiler)  # in several lists: the interpreter knows their order
        context = self.context()
        context.compiler, context.hits = compiler, records
        path: Path = ()
        for key in way:
            path = (path, key)
        for _, index, item in broken:
            check_node(node, item, (path, index), context, home=node)
        return Examination(tuple(dict.fromkeys(context.deviations)), compiler.hits, records)

    def compile(self) -> bool:
        """Compiles now; False where the schema stays with the interpreter."""
        from juxtalogos.schema.json.compile.compiler import Compiler

        self.uses = COMPILE_AFTER
        key = (self.direction, self.asserts_format)
        if key not in self.store.compilers:
            self.store.compilers[key] = Compiler(self.context())
        compiler: Compiler = self.store.compilers[key]
        if compiler.can_compile(self.node):
            self.compiler, self.function = compiler, compiler.function(self.node)
        return self.function is not None

    @property
    def accepts_anything(self) -> bool:
        """Whether no value could fail: then holding proves nothing."""
        return self.node.constant is True or (self.node.constant is None and not self.node.rules)

    def sample(self, *, full: bool = False, seed: int = 0, wanted: Wanted = NOTHING) -> Any:
        """A valid value with what is wanted: examples first, then made by the rules. Unsampleable when none
        is found.
        """
        from juxtalogos.schema.json.make.sample import sample

        return sample(self, full=full, seed=seed, wanted=wanted)

    def mutate(self, value: Any) -> Iterator[Mutation]:
        """From a valid value, values that break one named rule each, with its place."""
        from juxtalogos.schema.json.make.mutate import mutate

        return mutate(self, value)

    def boundaries(self, value: Any) -> Iterator[Boundary]:
        """From a valid value, valid values that just reach each limit, take each enumeration member, or are
        null where they may be.
        """
        from juxtalogos.schema.json.make.boundary import boundaries

        return boundaries(self, value)

    def check_part(self, row: OutlineRow, value: Any) -> tuple[Deviation, ...]:
        """The deviations of a value for the place that a row of the outline tells of."""
        if row.place is None:
            return ()
        node = self.store.node(row.place.document, row.place.pointer)
        return self.of(node).check(value)

    def elements(self) -> Iterator[Element]:
        """Everything in the schema that a value can exercise."""
        from juxtalogos.schema.json.tell.elements import elements

        return elements(self)

    def hits(self, value: Any) -> Iterator[str]:
        """Ids of the elements that a value exercises."""
        return iter(self.examine(value).hits)

    def outline(self, depth: int = 100) -> Iterator[OutlineRow]:
        """The schema as a person reads it, so many levels deep."""
        from juxtalogos.schema.json.tell.outline import outline

        return outline(self, depth=depth)


class _Values(Mapping[str, Any]):
    """The values of documents by URI; a document is only read when its value is asked for."""

    def __init__(self, documents: Mapping[str, Document]) -> None:
        self._documents = documents

    def __getitem__(self, uri: str) -> Any:
        return self._documents[uri].value

    def __iter__(self) -> Iterator[str]:
        return iter(self._documents)

    def __len__(self) -> int:
        return len(self._documents)

    def __contains__(self, uri: object) -> bool:
        return uri in self._documents


class JsonEngine:
    """Compiles `SchemaRef`s over the documents of one contract; each once."""

    def __init__(self, documents: Mapping[str, Document], dialect: str) -> None:
        self.store = SchemaStore(_Values(documents), dialect)
        self._schemas: dict[SchemaRef, JsonSchema] = {}
        self._asserts_format: bool | None = None

    def assert_formats(self, asserted: bool) -> None:
        """Overrides what the dialect says of `format`; before the first schema is compiled."""
        self._asserts_format = asserted

    def schema(self, ref: SchemaRef) -> JsonSchema:
        """BadReference when nothing is there."""
        found = self._schemas.get(ref)
        if found is None:
            node = (
                self._object(ref) if ref.members else self.store.node(ref.document, ref.pointer, ref.dialect)
            )
            found = self._schemas[ref] = JsonSchema(self.store, node, ref.direction, self._asserts_format)
        return found

    def _object(self, ref: SchemaRef) -> Node:
        """An object of members that stand here and there."""
        nodes = {
            name: self.store.node(one.document, one.pointer, one.dialect) for name, one, _ in ref.members
        }
        required = tuple(name for name, _, needed in ref.members if needed)
        return Node(
            ref.location,
            ref.document,
            (
                Rule("type", ("object",), "type", ref.location),
                Rule("required", required, "required", ref.location),
                Rule("members", Members(nodes, (), None), "properties", ref.location),
            ),
        )


def compile_schema(
    schema: Any,
    dialect: str = "2020-12",
    resources: Mapping[str, Any] | None = None,
    formats: str = "assert",
    direction: str = "response",
    uri: str = "",
) -> JsonSchema:
    """A schema ready to check values.

    `dialect` is one of `draft4`, `draft6`, `draft7`, `2019-09`, `2020-12`, `openapi-2.0`, `openapi-3.0`,
    `openapi-3.1`
    and is overridden by `$schema`; `resources` are further documents by URI; `formats` is `assert` or
    `annotate`.
    """
    store = SchemaStore({uri: schema, **(resources or {})}, dialect)
    return JsonSchema(store, store.node(uri, ""), Direction(direction), formats == "assert")


class InlineSchemas:
    """Schemas that stand within a document of another kind, such as the inputs of a suite."""

    def __init__(self, uri: str, document: Any, dialect: str = "2020-12") -> None:
        self.store, self.uri, self.dialect = SchemaStore({uri: document}, dialect), uri, dialect

    def schema(self, pointer: str) -> JsonSchema:
        """The schema at a JSON Pointer, its references followed; ValueError when one leads nowhere."""
        try:
            node = self.store.node(self.uri, pointer, self.dialect)
            schema = JsonSchema(self.store, node, Direction.REQUEST, True)
            schema.check(None)
        except BadReference as error:
            raise ValueError(str(error)) from None
        return schema


def asserts_format(dialect: str) -> bool:
    """Whether `format` is an assertion in a dialect, and no mere annotation; true for what is no dialect of
    ours.
    """
    known = DIALECTS.get(dialect)
    return known is None or known.asserts_format
