"""A rollout to take away, for a host that cannot be reached: a shell script, and a runbook to work through by hand."""

import shlex
from collections.abc import Iterator, Sequence

from yardgate.appliance.linux import FILES, Command, Files, commands
from yardgate.core.rollout import Step, sign_in_again, walked, words
from yardgate.core.system import System

SCRIPT = """#!/bin/sh
# {title}
#
#   sh {name}             does it; again does no harm
#   sh {name} --dry-run   shows every command, and does nothing
#   sh {name} --undo      puts back what was there before, the last step first
#
# It stops at the first command that fails, and says how to put everything back; putting back goes on to the end. It needs root.
# shellcheck disable=SC2016
set -eu
dry=no
way=forth
trouble=no
for option in "$@"; do
  case $option in
    --dry-run) dry=yes ;;
    --undo) way=back ;;
    *) echo "unknown: $option" >&2; exit 2 ;;
  esac
done
step() {{ echo "$1 of $2: $3"; }}
shown() {{ for word in "$@"; do printf " '%s'" "$(printf '%s' "$word" | sed "s/'/'\\\\\\\\''/g")"; done; echo; }}
run() {{ if test "$dry" = yes; then shown "$@"; else "$@" || failed; fi; }}
give() {{
  text=$1
  shift
  if test "$dry" = yes; then shown "$@"; printf '%s' "$text" | sed 's/^/    | /'; else printf '%s' "$text" | "$@" || failed; fi
}}
failed() {{
  trouble=yes
  if test "$way" = back; then echo "This could not be put back; going on." >&2; return 0; fi
  echo "It stopped here. Put everything back with: sh $0 --undo" >&2
  exit 1
}}
"""


def script(title: str, now: System, found: Sequence[Step], files: Files = FILES, name: str = "rollout.sh") -> str:
    """A POSIX shell script that does steps on a host that has `now`, and undoes them."""
    lines = [SCRIPT.format(title=_comment(title), name=name)]
    for way, some in (("forth", walked(now, found)), ("back", _back(now, found))):
        lines.append(f"{way}() {{\n")
        for number, (step, state) in enumerate(some, 1):
            lines.append(f"  step {number} {len(found)} {shlex.quote(words(step))}\n")
            lines += [f"  {_line(command)}\n" for command in commands(step, state, files)]
        lines.append("}\n")
    return "".join([*lines, '"$way"\ntest "$trouble" = no\n'])


def _comment(text: str) -> str:
    return "".join(char if char.isprintable() else " " for char in text)


def _back(now: System, found: Sequence[Step]) -> Iterator[tuple[Step, System]]:
    for step, state in reversed(list(walked(now, found))):
        yield step.back(), step.onto(state)


def _line(command: Command) -> str:
    argv = " ".join(shlex.quote(word) for word in command.argv)
    return f"give {shlex.quote(command.given)} {argv}" if command.given else f"run {argv}"


# --- the runbook ------------------------------------------------------------------------------------------------------


def runbook(title: str, now: System, found: Sequence[Step], left_out: Sequence[str], files: Files = FILES) -> str:
    """The steps in plain words, with their commands and what undoes them, as Markdown."""
    lines = [f"# {_plain(title)}", ""]
    if not found:
        lines += ["Nothing has to be done: the host has what the plan says.", ""]
    if left_out:
        lines += ["Not part of it, or otherwise:", "", *(f"- {_plain(line)}" for line in left_out), ""]
    for number, (step, state) in enumerate(walked(now, found), 1):
        said = words(step)
        lines += [f"## {number}. {_plain(said[0].upper() + said[1:])}", ""]
        if step.destroys:
            lines += ["**This cannot be undone.** Look whether there is a copy of what goes.", ""]
        lines += _shown(commands(step, state, files))
        undone = commands(step.back(), step.onto(state), files)
        lines += [f"To undo it: {_plain(words(step.back()))}.", "", *_shown(undone)]
    again = sorted(sign_in_again(found))
    if again:
        lines += [
            "## Afterwards",
            "",
            f"Whose open sessions keep what they were until they sign in again: {', '.join(again)}.",
            "",
        ]
    return "\n".join(lines)


def _plain(text: str) -> str:
    """Text that Markdown shows as it stands."""
    return "".join(f"\\{char}" if char in "\\`*_{}[]<>#|!~" else char for char in _comment(text))


def _shown(some: Sequence[Command]) -> list[str]:
    return [*(f"    {line}" for line in shown(some)), ""]


def shown(some: Sequence[Command]) -> list[str]:
    """Commands to be read: what each is for, how it is given, and what it is given to read."""
    lines = []
    for command in some:
        lines.append(f"# {command.why}")
        lines += (command.shown or shlex.join(command.argv)).splitlines()
        lines += [f"| {line}" for line in command.given.splitlines()]
    return lines
