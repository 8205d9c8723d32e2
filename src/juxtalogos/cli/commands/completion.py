"""`completion`: what the shell offers while a command is typed."""

from __future__ import annotations

import argparse

from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal
from juxtalogos.model.errors import UsageError

DESCRIPTION = """\
Print the code that lets a shell complete commands, options, contracts, operations, addresses, allowed
values, suites, cases, steps, targets and plans. Load it in the shell's start-up file:

  bash   source <(juxtalogos completion bash)      in ~/.bashrc
  zsh    source <(juxtalogos completion zsh)       in ~/.zshrc, behind compinit
  fish   juxtalogos completion fish | source       in ~/.config/fish/config.fish

What a definition has is indexed in .juxtalogos/ when it is needed first; `completion index` does it
now."""
EXAMPLE = """\
  juxtalogos completion bash > ~/.juxtalogos-completion.bash
"""
BASH = """\
_juxtalogos() {
  local line
  COMPREPLY=()
  while IFS= read -r line; do COMPREPLY+=("$line"); done < <(
    "$1" completion words bash "$COMP_LINE" "$COMP_POINT" 2>/dev/null)
}
complete -o nospace -F _juxtalogos juxtalogos jux
"""
ZSH = """\
_juxtalogos() {
  local -a whole open
  local line
  for line in "${(@f)$("${words[1]}" completion words zsh "${(@)words[2,CURRENT]}" 2>/dev/null)}"; do
    case "$line" in
      '') ;;
      *[=#/]) open+=("$line") ;;
      *) whole+=("$line") ;;
    esac
  done
  (( $#whole )) && compadd -- "${(@)whole}"
  (( $#open )) && compadd -S '' -- "${(@)open}"
}
compdef _juxtalogos juxtalogos jux
"""
FISH = """\
function __juxtalogos_words
    set -l typed (commandline -opc)
    $typed[1] completion words fish $typed[2..-1] (commandline -ct) 2>/dev/null
end
complete -c juxtalogos -f -a '(__juxtalogos_words)'
complete -c jux -f -a '(__juxtalogos_words)'
"""
SCRIPTS = {"bash": BASH, "zsh": ZSH, "fish": FISH}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=(*SCRIPTS, "index"), help="the shell that asks")
    add_common(parser, json=False)


class _CompletionArguments(Arguments):
    shell: str


def run(args: _CompletionArguments) -> int:
    if args.shell == "index":
        from juxtalogos.cli.completing.indexing import index_contracts
        from juxtalogos.cli.shared.options import workspace

        home = workspace(args)
        index_contracts(home.root, home.contract_names())
        terminal(args).note(("the index is made anew", "note"))
        return EXIT_HELD
    if args.shell not in SCRIPTS:
        raise UsageError("no such shell", mend=", ".join(SCRIPTS))
    terminal(args).raw(SCRIPTS[args.shell])
    return EXIT_HELD
