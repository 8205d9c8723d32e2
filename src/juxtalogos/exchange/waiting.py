"""How long an answer asks to wait."""

from __future__ import annotations

from email.utils import parsedate_to_datetime

from juxtalogos.model.exchange import Response, header


def retry_after(response: Response, sent_at: float) -> float | None:
    """Seconds that an answer asks to wait (RFC 9110, section 10.2.3), from a Unix time where it tells a date;
    None where it tells nothing that can be read.
    """
    told = (header(response.headers, "retry-after") or "").strip()
    if told.isascii() and told.isdigit():
        return float(told[:20])
    try:
        return max(0.0, float(parsedate_to_datetime(told).timestamp()) - sent_at)
    except (ValueError, TypeError, OverflowError, IndexError):
        return None
