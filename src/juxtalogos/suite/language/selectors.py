"""Choosing values out of answers: JSONPath (RFC 9535) and XPath (1.0 to 3.1), on engines that nothing can
drive for ever.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from juxtalogos.documents.xmltext import NotXml, parse_xml
from juxtalogos.model.errors import quoted
from juxtalogos.schema.patterns import PatternError, PatternTimeout, compile_pattern

if TYPE_CHECKING:
    from jsonpath import JSONPath

MAX_LENGTH = 2_000
VERSIONS = {"xpath-10": "1.0", "xpath-20": "2.0", "xpath-30": "3.0", "xpath-31": "3.1"}
JSONPATH_VERSIONS = ("draft-goessner-dispatch-jsonpath-00", "rfc9535")
_PATTERN_FUNCTIONS = ("matches", "replace", "tokenize", "analyze-string")


class BadSelector(ValueError):
    """The text is no JSONPath or XPath."""


class NoSelection(ValueError):
    """A selector cannot be applied to what came."""


def json_path(text: str) -> JSONPath | Any:
    """A JSONPath ready to be applied; BadSelector says what is wrong with it."""
    if len(text) > MAX_LENGTH:
        raise BadSelector(f"a JSONPath of more than {MAX_LENGTH} characters")
    return _json_path(text)


@lru_cache(maxsize=500)
def _json_path(text: str) -> Any:
    from jsonpath.exceptions import JSONPathError

    try:
        return _environment().compile(text)
    except (JSONPathError, RecursionError, ValueError) as error:
        raise BadSelector(f"{text!r} is no JSONPath: {' '.join(str(error).split())[:160]}") from None


@lru_cache(maxsize=1)
def _environment() -> Any:
    from jsonpath import JSONPathEnvironment
    from jsonpath.function_extensions import ExpressionType, FilterFunction

    class OurMatch(FilterFunction):
        """`match()` and `search()` on our pattern engine: no pattern of a suite can run for ever."""

        arg_types = [ExpressionType.VALUE, ExpressionType.VALUE]  # noqa: RUF012
        return_type = ExpressionType.LOGICAL

        def __init__(self, whole: bool) -> None:
            self.whole = whole

        def __call__(self, value: object, pattern: object) -> bool:
            if not isinstance(value, str) or not isinstance(pattern, str):
                return False
            try:
                return compile_pattern(f"^(?:{pattern})$" if self.whole else pattern).search(value)
            except (PatternError, PatternTimeout):
                return False

    environment = JSONPathEnvironment()
    environment.function_extensions["match"] = OurMatch(True)
    environment.function_extensions["search"] = OurMatch(False)
    return environment


def select_json(text: str, value: Any) -> list[Any]:
    """The values of all nodes; NoSelection when the value cannot be gone through."""
    from jsonpath.exceptions import JSONPathError

    try:
        if isinstance(value, str):
            # A text would be taken for JSON and read; like any value without members, it is all that can be
            # chosen.
            return [value for _ in json_path(text).findall(0)]
        return list(json_path(text).findall(value))
    except (JSONPathError, RecursionError, TypeError) as error:
        raise NoSelection(" ".join(str(error).split())[:160] or type(error).__name__) from None


def check_xpath(text: str, version: str = "", namespaces: Mapping[str, str] | None = None) -> None:
    """BadSelector when a text is no XPath of that version, or holds a pattern that could run for ever."""
    spaces = tuple(sorted((namespaces or {}).items()))
    if "function-lookup" in text:
        raise BadSelector(
            f"{text!r} calls functions by computed names, which is not allowed (function-lookup)"
        )
    if _may_grow(text):
        _checked_apart(text, version, spaces)
    else:
        _xpath(text, version, spaces)


_GROWING = re.compile(
    r"(?<![\w.-])(?:to|for|let|some|every|function|map|array)(?![\w.-])|=>|!(?!=)|\bfor-each|\bfold-|function-lookup|string-join|\bsort\b"
)
"""Words of an XPath whose work may grow beyond the document: the library does part of it as it reads them."""


def _may_grow(text: str) -> bool:
    return len(text) > MAX_LENGTH or _GROWING.search(re.sub(r"'[^']*'|\"[^\"]*\"", "''", text)) is not None


@lru_cache(maxsize=500)
def _checked_apart(text: str, version: str, spaces: tuple[tuple[str, str], ...]) -> None:
    """Reads an XPath in a process apart; BadSelector when it is none, or cannot be followed."""
    from juxtalogos.suite.apart import NotDone, TooMuch, apart

    if len(text) > MAX_LENGTH:
        raise BadSelector(f"an XPath of more than {MAX_LENGTH} characters")
    try:
        apart("juxtalogos.suite.language.selectors:checked", text, version, dict(spaces))
    except TooMuch as error:
        raise BadSelector(f"{quoted(text)} cannot be followed: {error}") from None
    except NotDone as error:
        raise BadSelector(str(error)) from None


def checked(text: str, version: str, namespaces: dict[str, str]) -> None:
    """In the process apart: ValueError when a text is no XPath that may be used."""
    _xpath(text, version, tuple(sorted(namespaces.items())))


@lru_cache(maxsize=500)
def _xpath(text: str, version: str, namespaces: tuple[tuple[str, str], ...]) -> Any:
    from elementpath import ElementPathError, XPath1Parser, XPath2Parser
    from elementpath.xpath3 import XPath3Parser

    if len(text) > MAX_LENGTH:
        raise BadSelector(f"an XPath of more than {MAX_LENGTH} characters")
    makers: dict[str, Any] = {"1.0": XPath1Parser, "2.0": XPath2Parser}
    maker = makers.get(VERSIONS.get(version, "3.1"), XPath3Parser)
    try:
        token = maker(namespaces=dict(namespaces)).parse(text)
    except (ElementPathError, RecursionError, ValueError, TypeError) as error:
        raise BadSelector(f"{text!r} is no XPath: {' '.join(str(error).split())[:160]}") from None
    for part in token.iter():
        if part.symbol in _PATTERN_FUNCTIONS:
            _guard(part, text)
        if part.symbol in (
            "doc",
            "doc-available",
            "unparsed-text",
            "collection",
            "uri-collection",
            "environment-variable",
            "json-doc",
            "unparsed-text-lines",
            "function-lookup",
            "load-xquery-module",
            "transform",
        ):
            raise BadSelector(f"{text!r} leads out of the response, which is not allowed ({part.symbol})")
    return token


def _guard(part: Any, text: str) -> None:
    """A pattern must be written out, and proven harmless: the XPath engine has no limit of time."""
    pattern = getattr(part[1], "value", None) if len(part) > 1 and part[1].symbol == "(string)" else None
    if not isinstance(pattern, str) or not _is_harmless(pattern):
        raise BadSelector(
            f"{text!r} holds a pattern that could run for ever; write it out, and simpler ({part.symbol})"
        )


def prefixes_in(text: str) -> dict[str, str]:
    """The prefixes that an XPath uses, each with a namespace that stands for one not known yet."""
    return {
        name: f"urn:{name}"
        for name in re.findall(r"(?<![\w.$:-])([A-Za-z_][\w.\-]*):(?![:=])", text)
        if name not in _STANDARD
    }


_STANDARD = ("fn", "xs", "math", "map", "array", "xml", "err")


def _is_harmless(pattern: str) -> bool:
    try:
        return compile_pattern(pattern).plain_search() is not None
    except PatternError:
        return False


def select_xml(
    text: str, body: bytes, version: str = "", namespaces: Mapping[str, str] | None = None
) -> list[Any]:
    """The texts, numbers or truth values of all nodes; NoSelection when the body is no XML."""
    if not _is_bounded(text, version, namespaces):
        return list(_apart("selected", text, body, version, namespaces))
    found = _chosen(text, body, version, namespaces, lambda token, context: token.get_results(context))
    return [_plain(item) for item in (found if isinstance(found, list) else [found])]


def xml_holds(
    text: str, body: bytes, version: str = "", namespaces: Mapping[str, str] | None = None
) -> tuple[bool, str]:
    """(the effective boolean value of an XPath (XPath 3.1, section 2.4.3), what it gives in words);
    NoSelection as above.
    """

    if not _is_bounded(text, version, namespaces):
        told = _apart("held", text, body, version, namespaces)
        return bool(told[0]), str(told[1])
    return _held(text, body, version, namespaces)


def _held(text: str, body: bytes, version: str, namespaces: Mapping[str, str] | None) -> tuple[bool, str]:
    def value(token: Any, context: Any) -> tuple[bool, str]:
        from elementpath.xpath_nodes import XPathNode

        items = list(token.select(context))
        held = bool(token.boolean_value(items))
        if len(items) != 1 or isinstance(items[0], XPathNode):
            return held, f"{len(items)} found"
        return held, quoted(items[0]) if isinstance(items[0], str) else str(items[0]).lower()

    found: tuple[bool, str] = _chosen(text, body, version, namespaces, value)
    return found


_PLAIN_SYMBOLS = frozenset(
    (
        "/",
        "//",
        "(name)",
        ":",
        "*",
        "@",
        "[",
        ".",
        "..",
        "(",
        "(string)",
        "(integer)",
        "(decimal)",
        "(double)",
        "and",
        "or",
        "=",
        "!=",
        "<",
        ">",
        "<=",
        ">=",
        "eq",
        "ne",
        "lt",
        "gt",
        "le",
        "ge",
        "+",
        "-",
        "div",
        "mod",
        "|",
        "union",
        ",",
        "not",
        "count",
        "sum",
        "position",
        "last",
        "text",
        "node",
        "local-name",
        "name",
        "namespace-uri",
        "starts-with",
        "ends-with",
        "contains",
        "string",
        "number",
        "boolean",
        "true",
        "false",
        "normalize-space",
        "string-length",
        "child",
        "attribute",
        "self",
        "parent",
        "descendant",
        "descendant-or-self",
        "exists",
        "empty",
        "matches",
        "upper-case",
        "lower-case",
        "substring",
        "substring-before",
        "substring-after",
        "round",
        "floor",
        "ceiling",
        "abs",
        "translate",
        "distinct-values",
        "max",
        "min",
        "avg",
        "document-node",
        "element",
    )
)
"""What an XPath may be made of to be evaluated here: its work is bounded by the document's size, and once
more for each predicate."""


def _is_bounded(text: str, version: str, namespaces: Mapping[str, str] | None) -> bool:
    """Whether nothing in an XPath can take more than the document makes it take; another is evaluated in a
    process apart.
    """
    if _may_grow(text):
        return False
    try:
        token = _xpath(text, version, tuple(sorted({**prefixes_in(text), **(namespaces or {})}.items())))
    except BadSelector:
        return True  # which says so itself
    return (
        all(part.symbol in _PLAIN_SYMBOLS for part in token.iter())
        and text.count("//") + text.count("[") <= 6
    )


def _apart(what: str, text: str, body: bytes, version: str, namespaces: Mapping[str, str] | None) -> Any:
    from juxtalogos.suite.apart import NotDone, TooMuch, apart

    try:
        return apart(
            f"juxtalogos.suite.language.selectors:{what}",
            text,
            body.decode("latin-1"),
            version,
            dict(namespaces or {}),
        )
    except TooMuch as error:
        raise NoSelection(f"the XPath cannot be followed: {error}") from None
    except NotDone as error:
        raise NoSelection(str(error)) from None


def selected(text: str, body: str, version: str, namespaces: dict[str, str]) -> list[Any]:
    """What `select_xml` gives, in the process apart."""
    data = body.encode("latin-1")
    found = _chosen(text, data, version, namespaces, lambda token, context: token.get_results(context))
    return [_plain(item) for item in (found if isinstance(found, list) else [found])]


def held(text: str, body: str, version: str, namespaces: dict[str, str]) -> tuple[bool, str]:
    """What `xml_holds` gives, in the process apart."""
    return _held(text, body.encode("latin-1"), version, namespaces)


def _chosen(
    text: str,
    body: bytes,
    version: str,
    namespaces: Mapping[str, str] | None,
    take: Callable[[Any, Any], Any],
) -> Any:
    from elementpath import ElementPathError, XPathContext

    try:
        root = parse_xml(body)
    except NotXml as error:
        raise NoSelection(f"the body is no XML: {error}") from None
    spaces = {**_prefixes(body), **(namespaces or {})}
    try:
        token = _xpath(text, version, tuple(sorted(spaces.items())))
    except BadSelector as error:
        raise NoSelection(str(error)) from None
    try:
        return take(token, XPathContext(ET.ElementTree(root)))
    except (ElementPathError, RecursionError, ValueError, TypeError, ArithmeticError) as error:
        raise NoSelection(" ".join(str(error).split())[:160]) from None


def replace_xml(text: str, target: str, value: str, namespaces: Mapping[str, str] | None = None) -> str:
    """An XML text with the value of what an XPath chooses replaced; NoSelection when it chooses nothing."""
    from elementpath import ElementPathError, XPathContext

    body = text.encode()
    try:
        root = parse_xml(body)
        spaces = {**_prefixes(body), **(namespaces or {})}
        token = _xpath(target, "", tuple(sorted(spaces.items())))
        found = list(token.select(XPathContext(ET.ElementTree(root))))
    except (NotXml, BadSelector, ElementPathError, ValueError, TypeError) as error:
        raise NoSelection(" ".join(str(error).split())[:160]) from None
    done = 0
    for node in found:
        element = getattr(node, "elem", node)
        name = getattr(node, "name", "")
        if isinstance(element, ET.Element):
            for child in list(element):
                element.remove(child)
            element.text, done = value, done + 1
        elif name and getattr(node, "parent", None) is not None:
            node.parent.elem.set(name, value)
            done += 1
    if not done:
        raise NoSelection(f"the XPath {target} chooses nothing in the payload")
    for prefix, uri in spaces.items():
        ET.register_namespace(prefix, uri)
    return ET.tostring(root, encoding="unicode")


def _prefixes(body: bytes) -> dict[str, str]:
    """The prefixes that the document itself declares on its root, so that its own names can be used."""
    head = body[:4096].decode("utf-8", "replace")
    return dict(re.findall(r"""\sxmlns:([A-Za-z_][\w.\-]*)\s*=\s*["']([^"']*)["']""", head))


def _plain(value: Any) -> Any:
    if isinstance(value, ET.Element):
        return "".join(value.itertext())
    if isinstance(value, bool | int | float | str) or value is None:
        return value
    return str(value)
