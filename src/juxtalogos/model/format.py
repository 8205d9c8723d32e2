"""What a format of definitions is: one value, found by name in a table."""

from __future__ import annotations

from collections.abc import Callable, Generator, Mapping
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.model.contract import Contract, SecurityScheme
from juxtalogos.model.document import Document
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.schema import SchemaEngine
from juxtalogos.model.wire import Wire

Fetch = Callable[[str], Document]
"""Gives a document by its URI relative to the contract's folder; DocumentError when it cannot."""

SignInFlow = Generator[Request, Exchange, Request]
"""Requests that must be sent first, each answered by its exchange; returns the signed request."""


@dataclass(frozen=True, slots=True)
class SignInScheme:
    """A kind of security scheme."""

    sign: Callable[[Request, SecurityScheme, Any, dict[str, Any]], SignInFlow]
    """(request, scheme, credential, what it remembers) -> the flow that ends with the signed request. Texts
    that it
    remembers are taken for secrets."""
    words: str = ""
    """What it asks for, in words; `{place}` and `{key}` stand for the scheme's."""
    void: Callable[[Exchange, dict[str, Any]], bool] | None = None
    """(an answer with one of those statuses, what it remembers) -> whether something remembered was void: it
    is forgotten then, and signing in anew may help."""
    void_on: tuple[int, ...] = (401,)
    at_base: bool = False
    """Whether it asks at the service's base URL: that is the scheme's `token_url` then."""


@dataclass(frozen=True, slots=True)
class Format:
    """A format of definitions and its wire form. What is heavy may be loaded when it is first called."""

    name: str
    claims: Callable[[Document], bool]
    """Whether a document is a definition of this format."""
    read: Callable[..., Contract]
    """(name, root URI, fetch, others) -> contract; its faults are listed in it. `others`: URIs of documents
    that are at hand,
    whether or not anything refers to them; may be left out."""
    engine: Callable[[Mapping[str, Document], str], SchemaEngine]
    """(documents, dialect) -> what compiles the schemas of a contract that was read before."""
    bind: Callable[[Contract], Wire]
    is_root: Callable[[Document], bool] | None = None
    """Whether a definition in several documents begins with this one; None: each that is claimed does."""
    whole_folder: bool = False
    """Whether all documents of a folder that it claims are one definition, whichever it begins with."""
    leads_to: Callable[[Document, str], str] | None = None
    """(a document that is none, its URL) -> the URL of the definition that it leads to, such as a service's
    root to its
    metadata; empty where it leads to none."""
    sign_in: Mapping[str, SignInScheme] = field(default_factory=dict)
    """Kinds of security scheme that only this protocol has."""
    finding_kinds: Mapping[str, str] = field(default_factory=dict)
    """Kinds of result beside those that every format has, in words."""
    element_kinds: Mapping[str, str] = field(default_factory=dict)
    """Kinds of element beside those that every format has, with their headings."""
    endings: tuple[str, ...] = ()
    """Of the files that its definitions are kept in."""
    plain_names: tuple[str, ...] = ()
    """Names of files that say nothing of what they define; the title names the contract then."""
    open_places: tuple[str, ...] = ("header",)
    """Places where an input may be given that is not declared."""
    source_type: str = ""
    """What a suite calls a source of this format, where the standard has a word for it (Arazzo 1.0.1)."""
    version: str = ""
    """Of a plug-in: what it read before is read anew when this changes."""
    hint: str = ""
    """How a person knows a definition of this format: told when a document is none."""
