"""The public face for plug-ins: what a format, a way to sign in, a report, a check or a law is made of.

A package adds values to the tables by entry points (docs/plugins.md). What it needs is named here and stays.
"""

from juxtalogos.check import CHECKS
from juxtalogos.check.body import check_body
from juxtalogos.check.laws import LAWS
from juxtalogos.conventions.faults import fault_outcome
from juxtalogos.conventions.naming import intent_of, noun_of, only_reads, singular
from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.documents.xmltext import NotXml, parse_xml
from juxtalogos.exchange.media import content_type, media_type_of
from juxtalogos.exchange.sign_in import SIGN_IN
from juxtalogos.exchange.signing import Credential
from juxtalogos.explore.techniques import KIND_TECHNIQUES, OPERATION_TECHNIQUES
from juxtalogos.formats import FORMATS
from juxtalogos.formats.base import BaseWire
from juxtalogos.formats.http.wire import HttpWire
from juxtalogos.model.contract import (
    Body,
    Contract,
    DeclaredAnswer,
    DeclaredHeader,
    DeclaredLink,
    DefinitionFault,
    Input,
    Intent,
    Media,
    Operation,
    SecurityScheme,
)
from juxtalogos.model.danger import Danger
from juxtalogos.model.document import Document
from juxtalogos.model.elements import Element
from juxtalogos.model.errors import JuxtalogosError, UsageError
from juxtalogos.model.exchange import Exchange, Request, Response, header
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.format import Fetch, Format, SignInFlow, SignInScheme
from juxtalogos.model.laws import Law
from juxtalogos.model.location import Location
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.schema import ABSENT, Direction, SchemaEngine, SchemaRef
from juxtalogos.model.wire import (
    Answer,
    Conversation,
    HeaderValue,
    Inputs,
    ObservedFault,
    Problem,
    Unmet,
    Variant,
    Wire,
    WireCheck,
)
from juxtalogos.plugins import Table
from juxtalogos.report import REPORTERS, Reporter
from juxtalogos.report.view import RunView
from juxtalogos.run.executors import EXECUTORS, Executor, WorkSource
from juxtalogos.schema.json import JsonEngine
from juxtalogos.suite.tables import TABLE_SOURCES, TableReader

__all__ = [
    "ABSENT",
    "CHECKS",
    "EXECUTORS",
    "FORMATS",
    "KIND_TECHNIQUES",
    "LAWS",
    "OPERATION_TECHNIQUES",
    "REPORTERS",
    "SIGN_IN",
    "TABLE_SOURCES",
    "Answer",
    "BaseWire",
    "Body",
    "CheckResult",
    "Contract",
    "Conversation",
    "Credential",
    "Danger",
    "DeclaredAnswer",
    "DeclaredHeader",
    "DeclaredLink",
    "DefinitionFault",
    "Direction",
    "Document",
    "Element",
    "Exchange",
    "Executor",
    "Fetch",
    "Format",
    "HeaderValue",
    "HttpWire",
    "Input",
    "Inputs",
    "Intent",
    "JsonEngine",
    "JuxtalogosError",
    "Law",
    "Location",
    "Media",
    "NotJson",
    "NotXml",
    "ObservedFault",
    "Operation",
    "Outcome",
    "Problem",
    "Reporter",
    "Request",
    "Response",
    "RunView",
    "SchemaEngine",
    "SchemaRef",
    "SecurityScheme",
    "Severity",
    "SignInFlow",
    "SignInScheme",
    "Table",
    "TableReader",
    "Unmet",
    "UsageError",
    "Variant",
    "Wire",
    "WireCheck",
    "WorkSource",
    "Wrong",
    "check_body",
    "content_type",
    "dump_json",
    "fault_outcome",
    "header",
    "intent_of",
    "media_type_of",
    "noun_of",
    "only_reads",
    "parse_json",
    "parse_xml",
    "singular",
]
