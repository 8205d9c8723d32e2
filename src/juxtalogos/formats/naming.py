"""Names as people make them: what a path or an operation's name tells of what it is about."""

from __future__ import annotations

import re
from functools import lru_cache

from juxtalogos.model.contract import Intent

_WORD = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
_VERBS: dict[Intent, str] = {
    Intent.LIST: "list search find query browse",
    Intent.READ: (
        "get read fetch show look lookup check count describe retrieve view validate verify calculate compute"
        " quote estimate preview ping has exists convert resolve download"
    ),
    Intent.CREATE: (
        "add create new register insert make book plan schedule submit announce enter issue roster enrol"
        " enroll put store upload open"
    ),
    Intent.UPDATE: "update change set rename edit modify move amend correct adjust save",
    Intent.REPLACE: "replace",
    Intent.DELETE: (
        "delete remove scrap dispose decommission retire cancel withdraw revoke discard erase unregister"
        " deregister unsubscribe"
    ),
    Intent.EMPTY: (
        "clear reset flush purge wipe shutdown shut drop truncate restart reboot kill terminate halt destroy"
        " uninstall"
    ),
    Intent.ACT: (
        "accept acknowledge activate allot allocate apply approve archive assign attach authenticate"
        " authorise authorize begin bind call close complete confirm connect copy deliver detach disable do"
        " enable end execute export extend finish grant handle hold import inform inspect link load lock log"
        " login logout merge notify pay perform poll post print process produce promote publish receive"
        " record refresh reject release renew report request resend resume return run send share sign split"
        " start stop subscribe suspend swap switch sync take test track transfer translate trigger unlink"
        " unlock use wait"
    ),
}
VERBS = {word: intent for intent, words in _VERBS.items() for word in words.split()}
"""What the first word of a name says that is done."""
_MANY = ("all", "bulk", "batch", "mass", "every")
_READS = (Intent.LIST, Intent.READ)


def last_part(path: str) -> str:
    """The last fixed segment of a path: of `/berths/{id}` it is `berths`."""
    fixed = [part for part in path.split("/") if part and "{" not in part]
    return fixed[-1] if fixed else ""


def first_part(path: str) -> str:
    """The first fixed segment of a path."""
    return next((part for part in path.split("/") if part and "{" not in part), "")


def singular(word: str) -> str:
    """An English word in lower case, in the singular as far as its ending tells."""
    word = word.lower()
    if word.endswith("ies"):
        return word[:-3] + "y"
    if word.endswith(("sses", "shes", "ches", "xes")):
        return word[:-2]
    return word[:-1] if word.endswith("s") and not word.endswith("ss") else word


@lru_cache(maxsize=10_000)
def words_of(name: str) -> tuple[str, ...]:
    """The words of a name, in lower case: `addPortCall`, `add_port_call`."""
    return tuple(word.lower() for word in _WORD.findall(name))


def plain(name: str) -> str:
    """A name without what people separate its words by, in lower case."""
    return re.sub(r"[^a-z0-9]", "", name.lower())


def intent_of(name: str) -> Intent:
    """What a name says that an operation does; `UNKNOWN` where its first word is no verb that we know.

    To delete all, or many at once, is to empty.
    """
    words = words_of(name)
    many = any(word in _MANY for word in words)
    while words and words[0] in _MANY:
        words = words[1:]
    found = VERBS.get(words[0], Intent.UNKNOWN) if words else Intent.UNKNOWN
    return Intent.EMPTY if found is Intent.DELETE and many else found


def only_reads(name: str) -> bool:
    """Whether an operation's name says that it only reads: `getPassage`, `ListJobs`."""
    return intent_of(name) in _READS


def noun_of(name: str) -> str:
    """What an operation is about, by its name: `getPassage` is about a passage."""
    words = [word for word in words_of(name)[1:] if word not in _MANY]
    return singular("".join(words))
