"""URIs of documents: absolute ones as RFC 3986 has them, and relative ones within a definition's folder."""

from __future__ import annotations

import posixpath
import re
from functools import lru_cache
from urllib.parse import urljoin, urlsplit

_AUTHORITY_END = re.compile(r"[/?#]")


def defragmented(uri: str) -> tuple[str, str]:
    """(a URI without its fragment, the fragment); RFC 3986, section 3.5. Takes what is no URI too."""
    resource, _, fragment = uri.partition("#")
    return resource, fragment


def join_uri(base: str, reference: str) -> str:
    """RFC 3986, section 5.2, with two differences for what is no absolute hierarchical URI.

    A base such as `urn:` keeps its own when only a fragment is given; and a relative base keeps a leading
    `..`,
    so that a reference that leads out of the folder is seen to do so. What is no URI at all stays as it is:
    it leads nowhere.
    """
    if reference.startswith("#"):
        return defragmented(base)[0] + reference
    try:
        if urlsplit(base).scheme or urlsplit(reference).scheme or reference.startswith("//"):
            return urljoin(base, reference)
    except ValueError:  # a bracket without its partner
        return reference
    path, hash_sign, fragment = reference.partition("#")
    joined = posixpath.normpath(posixpath.join(posixpath.dirname(defragmented(base)[0]), path))
    return joined + hash_sign + fragment


@lru_cache(maxsize=2_000)
def origin(url: str) -> str:
    """scheme://host:port, lowered, the port always told (RFC 6454, section 4).

    ValueError when the URL is none.
    """
    parts = urlsplit(url)
    port = parts.port or {"http": 80, "https": 443}.get(parts.scheme, 0)
    return f"{parts.scheme}://{(parts.hostname or '').lower()}:{port}"


def origin_alone(url: str) -> str:
    """`origin` of a URL whose path is its own: only what tells the origin is remembered."""
    scheme, _, rest = url.partition("://")
    return origin(f"{scheme}://{_AUTHORITY_END.split(rest, maxsplit=1)[0]}")
