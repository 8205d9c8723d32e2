"""Planted faults: one change at one place of a service's source, each with its operator and the function that
it is in.

Changes that nobody outside can see (`UNSEEN`) are left out, each with its reason.
"""

from __future__ import annotations

import ast
import copy
import types
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
Change = Callable[[ast.AST], ast.AST | None]

_CODES = {
    200: 202,
    201: 200,
    202: 200,
    204: 200,
    304: 200,
    400: 409,
    401: 400,
    403: 404,
    404: 400,
    405: 404,
    409: 400,
    412: 409,
    415: 400,
    422: 409,
}
_FAMILIES = {
    "other status": "valid",
    "dropped field": "valid",
    "wrong type": "valid",
    "other fault": "valid",
    "negated": "state",
    "dropped": "state",
    "off by one": "refused input",
    "skipped validation": "refused input",
    "optional made required": "valid",
    "required made optional": "refused input",
    "skipped sign-in": "sign-in",
    "deletes too much": "state",
    "wrong comparison": "state",
}


@dataclass(frozen=True, slots=True)
class Planted:
    """A fault: where it is, and the source with it."""

    service: str
    function: str
    operator: str
    number: int
    """Of those of its operator in its function, from 1."""
    what: str
    tree: ast.Module

    @property
    def name(self) -> str:
        return f"{self.service}:{self.function}:{self.operator}:{self.number}"

    @property
    def family(self) -> str:
        return _FAMILIES[self.operator]


def planted(service: str) -> Iterator[Planted]:
    """Every fault of a service that can be seen from outside, in the order of its source."""
    tree = ast.parse((HERE / f"{service}.py").read_text())
    for function in _functions(tree):
        counts: dict[str, int] = {}
        for node in list(ast.walk(function)):
            for operator, change in _changes(node):
                counts[operator] = number = counts.get(operator, 0) + 1
                if f"{service}:{function.name}:{operator}:{number}" in UNSEEN:
                    continue
                changed = copy.deepcopy(tree)
                place = _alike(changed, function, node)
                before = ast.unparse(place)
                new = change(place)
                if new is None:
                    continue
                _put(changed, place, new)
                told = f"{before.splitlines()[0][:60]} -> {ast.unparse(new).splitlines()[0][:60]}"
                yield Planted(
                    service, function.name, operator, number, told, ast.fix_missing_locations(changed)
                )


def module(fault: Planted) -> types.ModuleType:
    """The service's module with the fault in it."""
    made = types.ModuleType(f"faulty.{fault.service}_{fault.number}")
    made.__file__ = str(HERE / f"{fault.service}.py")
    exec(compile(fault.tree, fault.name, "exec"), made.__dict__)
    return made


SKIPPED = {
    "__init__",
    "definition",
    "take",
    "end",
    "kept",
    "new",
    "routes",
    "answer",
    "body",
    "_no_number",
    "closed",
    "envelope",
    "member",
    "as_truth",
}
"""Functions that are not changed: what the stand-ins share, and what shows nothing of its own."""


def _functions(tree: ast.Module) -> Iterator[ast.FunctionDef]:
    for node in tree.body:
        if isinstance(node, ast.FunctionDef) and node.name not in SKIPPED:
            yield node
        elif isinstance(node, ast.ClassDef):
            yield from (
                one for one in node.body if isinstance(one, ast.FunctionDef) and one.name not in SKIPPED
            )


_REFERENCES = ("fairwayId", "tugId", "jobId")
"""What names a thing: a malformed name is refused all the same, for nothing is called so."""


def _changes(node: ast.AST) -> Iterator[tuple[str, Change]]:
    """(operator, what it does) of each that a place offers."""
    match node:
        case ast.If():
            yield "negated", _negated
            if isinstance(node.body[0], ast.Raise):
                yield "skipped validation", _nothing
        case ast.Expr(value=ast.Call(func=ast.Attribute(attr="allow" | "sign_in"))):
            yield "skipped sign-in", _nothing
        case ast.Expr(value=ast.Call(func=ast.Attribute(attr="take"), args=[ast.Constant(value=name), *_])):
            if name not in _REFERENCES:
                yield "skipped validation", _any_value
            yield "required made optional" if _flag(node) else "optional made required", _other_flag
        case ast.Expr(value=ast.Call()):
            yield "dropped", _nothing
        case ast.Assign(targets=[ast.Subscript()]) | ast.AugAssign():
            yield "dropped", _nothing
        case ast.Delete():
            yield "dropped", _nothing
            yield "deletes too much", _cleared
        case ast.Return(value=ast.Tuple(elts=[ast.Constant(value=int()), *_])):
            yield "other status", _other_status
        case ast.Call(func=ast.Name(id="Refused")):
            yield "other status", _other_refusal
        case ast.Call(func=ast.Name(id="Fault"), args=[ast.Constant(value=str() as name), *_]) if name:
            yield "other fault", _other_fault
        case ast.Call(func=ast.Attribute(attr="take"), args=[ast.Constant(value=name), _]) if (
            name not in _REFERENCES
        ):
            yield "skipped validation", _any_text
        case ast.Call(func=ast.Name(id="text" | "number" | "integer" | "whole" | "many")):
            yield from (("off by one", _moved(index)) for index in range(2) if _is_number(node, index))
        case ast.Call(func=ast.Attribute(attr="whole")):
            yield from (("off by one", _moved(index)) for index in (1, 2))
        case ast.Dict(keys=[ast.Constant() | None, *_]) if len(node.keys) > 1:
            yield "dropped field", _without_last
        case ast.Compare(ops=[ast.Eq() | ast.GtE() | ast.NotIn() | ast.NotEq() | ast.Gt()]):
            yield "wrong comparison", _other_comparison
        case ast.Slice(lower=ast.expr()) | ast.Slice(upper=ast.expr()):
            yield "off by one", _moved_slice
        case ast.Call(func=ast.Name(id="len")):
            yield "off by one", lambda place: ast.BinOp(place, ast.Add(), ast.Constant(1))  # type: ignore[arg-type]


def _alike(tree: ast.Module, function: ast.FunctionDef, node: ast.AST) -> Any:
    """The same place in a copy of the tree."""
    index = next(index for index, one in enumerate(ast.walk(function)) if one is node)
    found = next(
        one for one in _functions(tree) if one.name == function.name and one.lineno == function.lineno
    )
    return next(one for number, one in enumerate(ast.walk(found)) if number == index)


def _put(tree: ast.Module, place: ast.AST, new: ast.AST) -> None:
    class Putting(ast.NodeTransformer):
        def visit(self, node: ast.AST) -> Any:
            return new if node is place else self.generic_visit(node)

    if new is not place:
        Putting().visit(tree)


def _nothing(place: ast.AST) -> ast.AST:
    return ast.copy_location(ast.Pass(), place)


def _negated(place: Any) -> ast.AST:
    place.test = ast.UnaryOp(ast.Not(), place.test)
    return place


def _any_value(place: Any) -> ast.AST:
    place.value.args[3] = ast.parse("lambda value: True", mode="eval").body
    return place


def _any_text(place: Any) -> ast.AST:
    place.args[1] = ast.parse("lambda value: True", mode="eval").body
    return place


def _flag(node: Any) -> bool:
    return bool(node.value.args[1].value)


def _other_flag(place: Any) -> ast.AST | None:
    required = place.value.args[1].value
    place.value.args[1] = ast.Constant(not required)
    if required:
        place.value.args = [*place.value.args[:4], ast.Constant(None)]
    return place


def _cleared(place: Any) -> ast.AST:
    return ast.Expr(ast.Call(ast.Attribute(place.targets[0].value, "clear", ast.Load()), [], []))


def _other_status(place: Any) -> ast.AST:
    place.value.elts[0] = ast.Constant(_CODES[place.value.elts[0].value])
    return place


def _other_refusal(place: Any) -> ast.AST:
    place.args[0] = ast.Constant(_CODES[place.args[0].value])
    return place


def _other_fault(place: Any) -> ast.AST:
    place.args = [ast.Constant(""), place.args[1]]
    return place


def _is_number(node: Any, index: int) -> bool:
    return (
        len(node.args) > index
        and isinstance(node.args[index], ast.Constant)
        and isinstance(node.args[index].value, int | float)
    )


def _moved(index: int) -> Change:
    def change(place: Any) -> ast.AST | None:
        value = place.args[index].value
        last = index == 2 if isinstance(place.func, ast.Attribute) else index == 1 or place.func.id == "many"
        place.args[index] = ast.Constant(value + 1 if last else value - 1)
        return place

    return change


def _without_last(place: Any) -> ast.AST:
    place.keys, place.values = place.keys[:-1], place.values[:-1]
    return place


_OPPOSITE: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.GtE: ast.Gt,
    ast.Gt: ast.GtE,
    ast.NotIn: ast.In,
}


def _other_comparison(place: Any) -> ast.AST:
    place.ops = [_OPPOSITE[type(place.ops[0])]()]
    return place


def _moved_slice(place: Any) -> ast.AST:
    if place.upper is not None:
        place.upper = ast.BinOp(place.upper, ast.Add(), ast.Constant(1))
    else:
        place.lower = ast.BinOp(place.lower, ast.Add(), ast.Constant(1))
    return place


UNSEEN: dict[str, str] = {
    "fairways:one:other status:1": (
        "a parameter that stands twice is neither allowed nor forbidden by its schema"
    ),
    "fairways:fairway_fields:off by one:1": "the pattern has the limit too",
    "fairways:fairway_fields:off by one:2": "the pattern has the limit too",
    "fairways:buoy_fields:off by one:1": "the pattern has the limit too",
    "fairways:buoy_fields:off by one:2": "the pattern has the limit too",
    "fairways:put_office:off by one:5": "the pattern has the limit too",
    "fairways:put_office:off by one:6": "the pattern has the limit too",
    "fairways:put_office:off by one:7": "the pattern has the limit too",
    "fairways:put_office:off by one:8": "the pattern has the limit too",
    "fairways:add_order:off by one:1": "a reference of another length is refused all the same",
    "fairways:add_order:off by one:2": "a reference of another length is refused all the same",
    "fairways:add_survey:off by one:1": "a reference of another length is refused all the same",
    "fairways:add_survey:off by one:2": "a reference of another length is refused all the same",
    "fairways:add_survey:required made optional:1": "without a reference it is refused all the same",
    "fairways:add_order:required made optional:1": "without a reference it is refused all the same",
    "fairways:get_job:wrong comparison:1": "a job may take its time",
    "fairways:list_orders:off by one:5": "a cursor may lead to an empty page",
    "fairways:add_order:off by one:5": "no text is shorter than nothing",
    "tugs:begin_job:off by one:1": "the pattern has the limit too",
    "tugs:begin_job:off by one:2": "the pattern has the limit too",
    "fairways:answered:other status:1": "no operation is declared there",
    "tugs:change_tug:off by one:5": "no text is shorter than nothing",
    "tugs:register_tug:off by one:5": "no text is shorter than nothing",
}
"""Faults that no request can show, with the reason."""
