"""`Link` fields (RFC 8288, section 3)."""

from __future__ import annotations

from juxtalogos.model.exchange import Headers, header

_MOST_TEXT = 20_000
"""Longer fields are not read."""


def next_link(headers: Headers) -> str | None:
    """The target of the link to the next page; None where no field has one that can be read."""
    from httplink import parse_link_header

    for name, text in headers:
        if name.lower() != "link" or len(text) > _MOST_TEXT:
            continue
        try:
            links = parse_link_header(text).links
        except ValueError:  # a malformed field says nothing
            continue
        for link in links:
            if "next" in link.rel:
                return str(link.target)
    return None


def created_address(headers: Headers) -> str:
    """The address of what was created, as a response shows it (RFC 9110, section 10.2.2; OData 4.01, section
    8.3.4).
    """
    return header(headers, "location") or header(headers, "odata-entityid") or ""
