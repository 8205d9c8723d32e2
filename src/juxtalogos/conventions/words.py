"""The table of words: what names of operations, inputs, faults and states usually say.

A list is addressed as `GROUP.NAME`. A workspace adds words with `[conventions.GROUP]` in juxtalogos.toml, for
services
whose names are not English.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Mapping
from typing import TypeVar

_TABLE: dict[str, str] = {
    # Verbs: the first word of an operation's name, by what it does.
    "verbs.list": "list search find query browse filter",
    "verbs.read": (
        "get read fetch show look lookup check count describe retrieve view validate verify calculate "
        "compute quote estimate preview ping has exists convert resolve download"
    ),
    "verbs.create": (
        "add create new register insert make book plan schedule submit announce enter issue roster enrol "
        "enroll put store upload open"
    ),
    "verbs.update": "update change set rename edit modify move amend correct adjust save",
    "verbs.replace": "replace",
    "verbs.delete": (
        "delete remove scrap dispose decommission retire cancel withdraw revoke discard erase unregister "
        "deregister unsubscribe"
    ),
    "verbs.empty": (
        "clear reset flush purge wipe shutdown shut drop truncate restart reboot kill terminate halt "
        "destroy uninstall"
    ),
    "verbs.act": (
        "accept acknowledge activate allot allocate apply approve archive assign attach authenticate "
        "authorise authorize begin bind call close complete confirm connect copy deliver detach disable "
        "do enable end execute export extend finish grant handle hold import inform inspect link load "
        "lock log login logout merge notify pay perform poll post print process produce promote publish "
        "receive record refresh reject release renew report request resend resume return run send share "
        "sign split start stop subscribe suspend swap switch sync take test track transfer translate "
        "trigger unlink unlock use wait"
    ),
    "verbs.many": "all bulk batch mass every",
    # Verbs that reach beyond what a run made (see `danger`).
    "danger.destroys": (
        "purge reset flush empty wipe truncate factory format uninstall destroy vacuum clear"
    ),
    "danger.switches": (
        "shutdown shut restart reboot halt terminate kill poweroff logout logoff signout maintenance readonly"
        " freeze failover upgrade downgrade rollback restore rotate reindex lockdown enable disable"
        " deactivate suspend resume pause switch quit exit stop start reload migrate"
    ),
    "danger.beginning": "start launch boot",
    "danger.others": (
        "publish release revoke pay refund charge send resend notify email broadcast invite deploy import"
    ),
    "danger.reading": (
        "logout logoff signout shutdown poweroff restart reboot halt terminate kill purge flush wipe truncate"
        " uninstall reset reindex revoke"
    ),
    # Names of faults, as parts of the name without separators.
    "faults.absent": "notfound notknown notthere notexist nosuch unknown missing nonexist",
    "faults.invalid": "invalid validation malformed illegal badrequest badinput format",
    "faults.conflict": (
        "taken exist duplicate already busy ended closed conflict inuse state locked occupied finish "
        "running still assigned cancel used open active reserved released started allotted done"
    ),
    # Inputs and members of lists.
    "paging.limit": (
        "limit pagesize perpage size count top max maxresults maxitems first take pagelimit pagelength "
        "rows howmany atmost most"
    ),
    "paging.offset": "offset skip start startindex from startat firstresult",
    "paging.page": "page pagenumber pageno pagenr pageindex",
    "paging.cursor": (
        "after cursor next pagetoken continuation continuationtoken marker startafter nexttoken token "
        "bookmark nextcursor"
    ),
    "paging.next": (
        "next nextcursor nextpage nextpagetoken nexttoken cursor continuation continuationtoken marker "
        "after nextmarker nextlink odatanextlink bookmark"
    ),
    "paging.total": "total totalcount totalitems totalresults count totalelements overall matched found",
    "filters.least": "min minimum from since after least above over gte ge gt start starting newer",
    "filters.most": "max maximum to until before most below under lte le lt end ending older up",
    "filters.beyond": (
        "since after above over gt newer to until before below under lt older up start starting end "
        "ending from"
    ),
    "filters.sort": "sort sortby order orderby sorting",
    # States of jobs.
    "jobs.state": "state status phase progress",
    "jobs.succeeded": "done completed succeeded finished ready success",
    "jobs.ended": (
        "done completed complete succeeded success finished failed error cancelled canceled ready ended "
        "closed aborted"
    ),
    # Names of moments and limits that belong together.
    "moments.start": "start starts begin begins from since open opens opening first",
    "moments.end": (
        "end ends ending until expire expires expiry expiration finish finishes to close closes closing last"
        " due deadline through stop stops"
    ),
    "moments.future": "until expire expires expiry expiration due deadline",
    "moments.least": "min minimum least lower low from",
    "moments.most": "max maximum most upper high to",
    # Values that many addresses take.
    "values.path": "1 200",
    # Names of identifiers and of what must be unique.
    "names.identifier": "id name uuid guid key slug code number no ref",
    "names.generic": (
        "id name type path key code number title status state value label kind ref no nr uuid slug"
    ),
    "names.unique": (
        "name title label login username user email mail slug code reference identifier serial nickname "
        "alias handle"
    ),
    "names.counter": "revision version etag generation changes edition seq",
    # Messages of refusals.
    "messages.members": (
        "title detail message msg error error_description description reason errors violations details "
        "pointer field loc name path code faultstring"
    ),
    "messages.plain": (
        "value values field fields parameter parameters body query header path request error detail title "
        "message status type is not the one and"
    ),
}
_added: dict[str, frozenset[str]] = {}
_caches: list[Callable[[], None]] = []
Made = TypeVar("Made")


def names() -> tuple[str, ...]:
    """The lists of the table, by address."""
    return tuple(_TABLE)


def words(name: str) -> tuple[str, ...]:
    """The words of a list, in the table's order; those that the workspace adds last."""
    return (*_TABLE[name].split(), *sorted(_added.get(name, ())))


def extend(added: Mapping[str, Iterable[str]]) -> None:
    """Replaces the words that a workspace adds. KeyError where there is no such list."""
    for name in added:
        _TABLE[name]
    _added.clear()
    _added.update({name: frozenset(word.lower() for word in more) for name, more in added.items()})
    for clear in _caches:
        clear()


def digest() -> str:
    """What tells one set of added words from another; empty where none are added."""
    if not _added:
        return ""
    text = json.dumps({name: sorted(more) for name, more in sorted(_added.items())})
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def from_words(make: Callable[[], Made]) -> Callable[[], Made]:
    """Decorates a function that makes something of the table: made once, and again after words were added."""
    made: list[Made] = []

    def get() -> Made:
        if not made:
            made.append(make())
        return made[0]

    _caches.append(made.clear)
    return get


def word_set(name: str) -> Callable[[], frozenset[str]]:
    """A list as a set, as it is now."""
    return from_words(lambda: frozenset(words(name)))
