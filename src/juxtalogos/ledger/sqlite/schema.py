"""The tables of the ledger in SQLite, and how older forms are read in place.

Version 3. 1 and 2 kept bodies within the exchange and a row for each check; 1 had no `notes`. Times are Unix
seconds.
`stored` is what exchanges are read through: the same columns over every form.
"""

from __future__ import annotations

VERSION = 3

TABLES = """
CREATE TABLE meta (name TEXT PRIMARY KEY, value BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE run (
    id INTEGER PRIMARY KEY, started REAL NOT NULL, ended REAL NOT NULL DEFAULT 0, kind TEXT NOT NULL,
    target TEXT NOT NULL,
    what TEXT NOT NULL, verdict TEXT NOT NULL DEFAULT '', interrupted INTEGER NOT NULL DEFAULT 0,
    token TEXT NOT NULL DEFAULT ''
);
CREATE TABLE run_label (run INTEGER NOT NULL, label TEXT NOT NULL, PRIMARY KEY (run, label)) WITHOUT ROWID;
CREATE TABLE suite_case (
    run INTEGER NOT NULL, suite TEXT NOT NULL, name TEXT NOT NULL, verdict TEXT NOT NULL,
    reason TEXT NOT NULL, seconds REAL NOT NULL
);
CREATE INDEX case_run ON suite_case (run);
CREATE TABLE body (id INTEGER PRIMARY KEY, size INTEGER NOT NULL, coding TEXT NOT NULL, data BLOB NOT NULL);
CREATE TABLE result_set (id INTEGER PRIMARY KEY, results TEXT NOT NULL);
CREATE TABLE exchange (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL, suite TEXT NOT NULL, suite_case TEXT NOT NULL,
    step TEXT NOT NULL,
    contract TEXT NOT NULL, operation TEXT NOT NULL, role TEXT NOT NULL, whole INTEGER NOT NULL,
    verdict TEXT NOT NULL, reason TEXT NOT NULL,
    method TEXT NOT NULL, url TEXT NOT NULL, status INTEGER NOT NULL, sent_at REAL NOT NULL,
    first_byte REAL NOT NULL, total REAL NOT NULL,
    error TEXT NOT NULL, request_headers TEXT NOT NULL, request_body INTEGER, request_form TEXT NOT NULL,
    response_head TEXT, response_body INTEGER, response_form TEXT NOT NULL, results INTEGER,
    failing INTEGER NOT NULL, notes TEXT NOT NULL
);
CREATE INDEX exchange_run ON exchange (run);
CREATE TABLE finding (
    exchange INTEGER NOT NULL, run INTEGER NOT NULL, place INTEGER NOT NULL, class TEXT NOT NULL,
    kind TEXT NOT NULL, fingerprint TEXT NOT NULL
);
CREATE INDEX finding_run ON finding (run, fingerprint);
CREATE INDEX finding_exchange ON finding (exchange);
CREATE TABLE mark (fingerprint TEXT PRIMARY KEY, mark TEXT NOT NULL, note TEXT NOT NULL,
at REAL NOT NULL) WITHOUT ROWID;
CREATE TABLE created (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL, exchange INTEGER NOT NULL, contract TEXT NOT NULL,
    resource TEXT NOT NULL,
    key TEXT NOT NULL, target TEXT NOT NULL, removed INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX created_run ON created (run);
CREATE TABLE hit (
    run INTEGER NOT NULL, contract TEXT NOT NULL, element TEXT NOT NULL, operation TEXT NOT NULL,
    status INTEGER NOT NULL, media_type TEXT NOT NULL,
    count INTEGER NOT NULL, exchange INTEGER NOT NULL,
    PRIMARY KEY (run, contract, element, operation, status, media_type)
) WITHOUT ROWID;
"""
"""`body` and `result_set` hold each content once, by a keyed digest of it. `place` of a finding is its index
in the result set."""

_COLUMNS = """e.id, e.run, e.suite, e.suite_case, e.step, e.contract, e.operation, {role}, {whole},
e.verdict, e.reason,
    e.method, e.url, e.status, e.sent_at, e.first_byte, e.total, e.error, e.request_headers, {request},
    {request_form},
    e.response_head, {response}, {response_form}, {results}, {failing}, {notes}"""
STORED_COLUMNS = (
    "id, run, suite, suite_case, step, contract, operation, role, whole, verdict, reason, method, url,"
    " status, sent_at, first_byte, total, error, request_headers, request_coding, request_data, request_form,"
    " response_head, response_coding, response_data, response_form, results, failing, notes"
)

STORED = (
    "CREATE TEMP VIEW stored AS SELECT "
    + _COLUMNS.format(
        role="e.role",
        whole="e.whole",
        request="q.coding AS request_coding, q.data AS request_data",
        request_form="e.request_form",
        response="a.coding AS response_coding, a.data AS response_data",
        response_form="e.response_form",
        results="r.results AS results",
        failing="e.failing",
        notes="e.notes",
    )
    + " FROM main.exchange e LEFT JOIN main.body q ON q.id = e.request_body LEFT JOIN main.body a ON a.id ="
    " e.response_body LEFT JOIN main.result_set r ON r.id = e.results"
)


def stored_before(version: int) -> str:
    """The views through which a ledger of version 1 or 2 is read as it stands."""
    results = """(SELECT json_group_array(json_array(kind, held, place, declared, observed, document,
    pointer, severity, proving, detail))
        FROM (SELECT * FROM main.check_result WHERE exchange = e.id ORDER BY rowid)) AS results"""
    columns = _COLUMNS.format(
        role="'' AS role",
        whole="0 AS whole",
        request="'' AS request_coding, e.request_body AS request_data",
        request_form="'raw' AS request_form",
        response="'' AS response_coding, e.response_body AS response_data",
        response_form="'raw' AS response_form",
        results=results,
        failing="e.findings AS failing",
        notes="e.notes" if version > 1 else "'' AS notes",
    )
    return f"""
    CREATE TEMP VIEW stored AS SELECT {columns} FROM main.exchange e;
    CREATE TEMP VIEW finding AS SELECT c.exchange, e.run, 0 AS place, '' AS class, c.kind, '' AS fingerprint
        FROM main.check_result c JOIN main.exchange e ON e.id = c.exchange WHERE NOT c.held;
    CREATE TEMP VIEW run AS SELECT *, '' AS token FROM main.run;
    """
