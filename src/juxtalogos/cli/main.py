"""The entry point: one error boundary, named exit statuses, a command's module imported only when it is
called.
"""

from __future__ import annotations

import argparse
import errno
import gc
import sys
from collections.abc import Sequence
from typing import Any

from juxtalogos._version import VERSION
from juxtalogos.cli.parsing import COMMANDS, added_commands, build_parser, parsers_below


def main(argv: Sequence[str] | None = None) -> int:
    """Runs the program with these words; gives the exit status."""
    words = list(sys.argv[1:] if argv is None else argv)
    if words[:2] == ["completion", "words"]:  # at every press of a key: nothing else is loaded
        from juxtalogos.cli.completing.answering import answer

        return answer(words[2:])
    command = next((word for word in words if not word.startswith("-")), None)
    if command is not None and command not in COMMANDS and command not in added_commands():
        from juxtalogos.model.errors import nearest

        sys.stderr.write(f"juxtalogos: there is no command {command!r}\n  {nearest(command, COMMANDS)}\n")
        return 2
    try:
        args, unknown = build_parser(command).parse_known_args(words)
        if unknown:
            return _unknown_word(command, unknown[0], getattr(args, "verb", ""))
    except SystemExit as stop:
        return int(stop.code or 0)
    if command is None:
        build_parser(None).print_help()
        return 2
    return _guarded(args)


def _unknown_word(command: str | None, word: str, verb: str) -> int:
    """Refuses a word; where another verb of the command has such an option, that is told."""
    from juxtalogos.model.errors import nearest

    prog = " ".join(filter(None, ("juxtalogos", command, verb)))
    choices = parsers_below(build_parser(command))
    parser = choices[command] if command else build_parser(None)
    verbs = parsers_below(parser) if verb else {}
    name = word.partition("=")[0]
    options = _options(verbs[verb] if verb else parser)
    kind = "option" if word.startswith("-") else "word"
    others = [f"{command} {other}" for other, one in verbs.items() if name in _options(one)]
    hint = nearest(name, options, 1) if word.startswith("--") else ""
    told = f"it belongs to {', '.join(others)}" if others else hint if hint.startswith("did") else ""
    sys.stderr.write(f"{prog}: unknown {kind} {word}\n  {told + '; ' if told else ''}see {prog} --help\n")
    return 2


def _options(parser: argparse.ArgumentParser) -> list[str]:
    return [name for one in parser._actions for name in one.option_strings]


def _guarded(args: Any) -> int:
    from juxtalogos.model.errors import JuxtalogosError

    # Deep values are followed by plain recursion, which costs no C stack.
    sys.setrecursionlimit(12_000)
    try:
        if getattr(args, "log", None):
            _begin_log(args)
        return _run_asking(args)
    except JuxtalogosError as error:
        if getattr(args, "debug", False):
            return _shown_whole(error)
        from juxtalogos.cli.shared.terminal import clean

        sys.stderr.write(_hidden(clean(f"juxtalogos {args.command}: {error}", keep_lines=True)) + "\n")
        return 2
    except KeyboardInterrupt:
        sys.stderr.write("interrupted\n")
        return 130
    except BrokenPipeError:
        # The reader of our output has gone; nothing more can be said to it.
        sys.stdout = None
        return 0
    except OSError as error:
        if getattr(args, "debug", False) or error.errno not in _OF_THE_DISK:
            return _fault(args, error)
        where = f"{error.filename}: " if error.filename else ""
        sys.stderr.write(
            _hidden(
                f"juxtalogos {args.command}: {where}cannot be read or written: {error.strerror}\n "
                f" {_OF_THE_DISK[error.errno]}\n"
            )
        )
        return 2
    except Exception as error:
        return _fault(args, error)


_ROOM, _RIGHTS = "free some disk space, then try again", "check the permissions"
_OF_THE_DISK = {
    errno.ENOSPC: _ROOM,
    errno.EDQUOT: _ROOM,
    errno.EFBIG: _ROOM,
    errno.EROFS: _RIGHTS,
    errno.EACCES: _RIGHTS,
    errno.EPERM: _RIGHTS,
}


def _begin_log(args: Any) -> None:
    """Appends to the log from now on; every secret that is read in this process is hidden in it."""
    from juxtalogos import log

    log.hide_with(_hidden)
    log.log_to(args.log)
    log.LOGGER.info("juxtalogos %s %s", VERSION, args.command)


def _fault(args: Any, error: Exception) -> int:
    """A fault of ours: one line, and how to see more."""
    if getattr(args, "log", None):
        from juxtalogos.log import LOGGER

        LOGGER.exception("a fault of juxtalogos itself")
    if getattr(args, "debug", False):
        return _shown_whole(error)
    text = _hidden(" ".join(f"{type(error).__name__}: {error}".split()))[:300]
    sys.stderr.write(
        f"juxtalogos {args.command}: this is a fault of juxtalogos itself ({text})\n  run it again with"
        " --debug to see where\n"
    )
    return 2


def _shown_whole(error: Exception) -> int:
    """The traceback of an error, for `--debug`."""
    import traceback

    sys.stderr.write(_hidden("".join(traceback.format_exception(error))))
    return 2


def _hidden(text: str) -> str:
    """A message without the secrets that were read in this process."""
    secrets: Any = sys.modules.get("juxtalogos.workspace.secrets")
    if secrets is None or not secrets.READ:
        return text
    from juxtalogos.exchange.redact import Redactor

    return Redactor.of(secrets.READ).cut_text(text)


def _run_asking(args: Any) -> int:
    """Runs a command; where a secret would go where nobody has allowed it to, or a workspace names a proxy or
    a certificate authority of its own, a person at the terminal is asked, and it runs anew.
    """
    from juxtalogos.workspace.trust import NotSent, Trust, permission

    for _ in range(20):
        try:
            return int(args.run(args))
        except NotSent as wanted:
            if not wanted.origins:
                raise
            from juxtalogos.cli.shared.confirming import confirmed

            wish = permission(wanted.reference, " and ".join(wanted.origins))
            if not confirmed(f"{wish}: is that meant, for this workspace?"):
                raise
            Trust(wanted.root).allow(sends={wanted.reference: wanted.origins})
    return int(args.run(args))


def run_program() -> int:
    """The whole program as it is installed; its exit status.

    A command lives briefly, and what it reads is large and has few circles: to look for garbage often finds
    none.
    """
    gc.set_threshold(100_000, 50, 100)
    return main()


if __name__ == "__main__":
    raise SystemExit(run_program())
