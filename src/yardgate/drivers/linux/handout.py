"""A rollout to take away, for a host that cannot be reached: a shell script, and a runbook to work through by hand."""

import re
import shlex
from collections.abc import Iterator, Sequence
from hashlib import sha256
from html import escape
from typing import NamedTuple

from yardgate.core.acl import Ordered
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import System
from yardgate.core.host.step_words import afterwards, words
from yardgate.core.host.steps import Step, walked
from yardgate.drivers.linux.command import FILES, Command, Files
from yardgate.drivers.linux.commands import commands, helpers, list_text
from yardgate.formats import nfs4_text, posix_text
from yardgate.log import one_line

SCRIPT = """#!/bin/sh
# {title}
{begins}#
#   sh {name}             does it; again does no harm
#   sh {name} --dry-run   shows every command, and does nothing
#   sh {name} --undo      puts back what was there before, the last step first; only what this script did
#
# It stops at the first command that fails, and says how to roll everything back; rolling back goes on to the end. It needs root.
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
  if test "$way" = back; then echo "This could not be rolled back; going on." >&2; return 0; fi
  echo "It stopped here. Roll everything back with: sh $0 --undo" >&2
  exit 1
}}
"""


REMEMBERS = """kept={kept}
known() {{ grep -qs "^$1\\( there\\)*$" "$kept"; }}
remember() {{ test "$dry" = yes || known "${{1%% *}}" || {{ mkdir -p "${{kept%/*}}"; echo "$1" >> "$kept"; }}; }}
met() {{ n=$1; shift; test "$dry" = yes || known "$n" || ! "$@" > /dev/null 2>&1 || remember "$n there"; remember "$n"; }}
did() {{ test "$dry" = yes || grep -qsx "$1" "$kept"; }}
undone() {{ test "$dry" = yes || sed -i "/^$1\\$/d" "$kept"; }}
"""
"""What it did, and what was there already when it came to make it, stands on the host, so that undoing it takes away nothing else."""
HERE = """test "$dry" = yes || test "$(cat /proc/sys/kernel/hostname)" = {host} || {{
  echo "This was made for another host, named" {host} >&2; exit 2
}}
"""
ONLY = """only() {{ # a file of shares, and those that may stand in it
  file=$1; shift
  test -e "$file" || return 0
  sed -n 's/^\\[\\(.*\\)\\]$/\\1/p' "$file" | while read -r share; do
    for one; do if test "$share" = "$one"; then continue 2; fi; done
    echo "$file also has the share $share, of which this knows nothing, and would take it away. Read first what the host has." >&2
    exit 1
  done
}}
if test "$way$dry" = forthno; then only {file} {names} || exit 2; fi
"""
THERE = {
    "groups": ("getent", "group"),
    "accounts": ("getent", "passwd"),
    "folders": ("test", "-e"),
    "datasets": ("test", "-e"),
}
"""By which command it is seen whether something is there that a step makes."""


def script(
    title: str,
    now: System,
    found: Sequence[Step],
    files: Files = FILES,
    name: str = "rollout.sh",
    *,
    begins: str = "",
    host: str = "",
    remembers: bool = True,
) -> str:
    """A POSIX shell script that does steps on a host that has `now`, and undoes them. begins: from what it begins, in a line. host: the name of the
    host that it is for, which it then looks for. remembers: undo only what this script itself did, and let it take away no share that it does not
    know; otherwise undo everything."""
    head = SCRIPT.format(title=one_line(title), name=name, begins=f"# {one_line(begins)}\n" if begins else "")
    parts = []
    for way, some in (("forth", walked(now, found)), ("back", _back(now, found))):
        parts.append(f"{way}() {{\n")
        for at, (step, state) in enumerate(some, 1):
            number = at if way == "forth" else len(found) + 1 - at
            doing = [f"  step {at} {len(found)} {shlex.quote(words(step))}\n"]
            doing += [f"  {_meeting(number, step)}\n"] if remembers and way == "forth" else []
            doing += [f"  {_line(command)}\n" for command in commands(step, state, files)]
            back = remembers and way == "back"
            parts += [f"  if did {number}; then\n", *doing, f"  undone {number}\n", "  fi\n"] if back else doing
        parts.append("}\n")
    if remembers:
        mark = sha256("".join([head, *parts]).encode("utf-8", "surrogateescape")).hexdigest()[:16]
        head += REMEMBERS.format(kept=f"/var/lib/yardgate/script-{mark}")
        head += HERE.format(host=shlex.quote(host)) if host else ""
        if any(step.part == "offers" for step in found):
            names = sorted({*now.offers, *(step.record.name for step in found if step.part == "offers")})
            head += ONLY.format(file=shlex.quote(files.smb), names=" ".join(map(shlex.quote, names)))
    return "".join([head, *parts, '"$way"\ntest "$trouble" = no\n'])


def _meeting(number: int, step: Step) -> str:
    if step.does == "make" and step.part in THERE:
        return f"met {number} {shlex.join((*THERE[step.part], step.record.name))}"
    return f"remember {number}"


def _back(now: System, found: Sequence[Step]) -> Iterator[tuple[Step, System]]:
    for step, state in reversed(list(walked(now, found))):
        yield step.back(), step.onto(state)


def _line(command: Command) -> str:
    argv = " ".join(shlex.quote(word) for word in command.argv)
    return f"give {shlex.quote(command.given)} {argv}" if command.given else f"run {argv}"


# --- the runbook ------------------------------------------------------------------------------------------------------


def runbook(
    title: str, now: System, found: Sequence[Step], left_out: Sequence[str], begins: str = "", files: Files = FILES
) -> str:
    """The steps in plain words, with their commands and what undoes them, as Markdown. begins: from what they begin, in a line."""
    lines = [f"# {_plain(title)}", "", *([f"{_plain(begins)}.", ""] if begins else [])]
    if not found:
        lines += ["Nothing has to be done: the host has what the plan says.", ""]
    if left_out:
        lines += ["Left out, or done differently:", "", *(f"- {_plain(line)}" for line in left_out), ""]
    worked = _worked(now, found, files)
    if helping := _helping(worked, files):
        lines += [f"## Before\n\n{BEFORE}\n", *(f"    {line}" for line in helping.splitlines()), ""]
    for number, (step, doing, undoing) in enumerate(worked, 1):
        said = words(step)
        lines += [f"## {number}. {_plain(said[0].upper() + said[1:])}", ""]
        if step.destroys:
            lines += ["**This cannot be undone.** Check that there is a backup of what is deleted.", ""]
        lines += [*_shown(doing), f"To undo it: {_plain(words(step.back()))}.", "", *_shown(undoing)]
    if later := afterwards(found):
        lines += ["## Afterwards", "", *(part for line in later for part in (_plain(line), ""))]
    return "\n".join(lines)


PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{title}</title><style>
body {{ font: 11pt/1.4 "Source Sans 3", system-ui, sans-serif; color: #1d2b33; max-width: 46em; margin: 2em auto; padding: 0 1em; }}
h1 {{ font-size: 17pt; margin: 0 0 .3em; }} h2 {{ font-size: 12pt; margin: 0; break-after: avoid; }}
section {{ border-top: 1px solid #ddd6c8; padding: .7em 0 .5em 2.2em; position: relative; }}
section::before {{ content: ""; position: absolute; left: .2em; top: 1em; width: 1em; height: 1em; border: 1.5px solid #1d2b33; border-radius: 2px; }}
pre {{ font: 8.5pt/1.45 "Source Code Pro", ui-monospace, monospace; background: #f5f3ee; padding: .5em .8em; white-space: pre-wrap; overflow-wrap: anywhere; margin: .4em 0; orphans: 4; widows: 4; }}
.why {{ color: #4f5d64; }} .late {{ color: #b83b0b; font-weight: 600; }} .undo {{ color: #4f5d64; font-size: 10pt; margin: .5em 0 0; break-after: avoid; }} .before::before {{ display: none; }}
@page {{ margin: 16mm 14mm; }} @media print {{ body {{ margin: 0; max-width: none; }} }}
</style></head><body>
"""


def runbook_page(
    title: str, now: System, found: Sequence[Step], left_out: Sequence[str], begins: str = "", files: Files = FILES
) -> str:
    """The same as `runbook`, as a page to print, with a box to tick at each step."""
    lines = [PAGE.format(title=escape(title)), f"<h1>{escape(title)}</h1>"]
    lines += [f"<p class=why>{escape(begins)}.</p>"] if begins else []
    lines.append(
        f"<p class=why>{len(found)} steps, in this order, as root. Tick each when it is done. Done on: ____________ by: ____________________</p>"
    )
    if left_out:
        lines.append(
            f"<p>Left out, or done differently:</p><ul>{''.join(f'<li>{escape(line)}</li>' for line in left_out)}</ul>"
        )
    worked = _worked(now, found, files)
    if helping := _helping(worked, files):
        lines.append(f"<section class=before><h2>Before</h2><p>{BEFORE}</p><pre>{escape(helping)}</pre></section>")
    for number, (step, doing, undoing) in enumerate(worked, 1):
        said, back = words(step), step.back()
        lines.append(f"<section><h2>{number}. {escape(said[0].upper() + said[1:])}</h2>")
        if step.destroys:
            lines.append("<p class=late>This cannot be undone. Check that there is a backup of what is deleted.</p>")
        lines.append(_block(doing))
        lines.append(f"<p class=undo>To undo it: {escape(words(back))}.</p>{_block(undoing)}</section>")
    lines += [f"<p>{escape(line)}</p>" for line in afterwards(found)]
    return "\n".join([*lines, "</body></html>", ""])


def _block(some: Sequence[Command]) -> str:
    lines = typed(some)
    said = (f"<span class=why>{escape(line)}</span>" if is_why else escape(line) for is_why, line in lines)
    return f"<pre>{chr(10).join(said)}</pre>"


def restore_text(system: System) -> str:
    """Owners, flags and POSIX lists of all folders, for `setfacl --restore`; those with ordered lists as the file system has them."""
    blocks = []
    for folder in system.folders.values():
        own = folder.mode
        flags = ("-s" if own.setgid else "--") + ("t" if own.sticky else "-")
        head = [
            f"# file: {posix_text.escape(folder.name, chr(10) + chr(13))}",
            f"# owner: {posix_text.escape_name(folder.owner)}",
        ]
        head.append(f"# group: {posix_text.escape_name(folder.group)}")
        blocks.append("\n".join([*head, *([f"# flags: {flags}"] if flags != "---" else []), list_text(own)]))
    return "\n".join(blocks)


def specs_text(system: System) -> str:
    """Ordered lists of all folders that have one, for `nfs4_setfacl -S`, each headed by its path. Raises FormatError for names that
    nfs4_acl(5) cannot write."""
    blocks = []
    for folder in system.folders.values():
        if isinstance(folder.listed, Ordered):
            said = (
                nfs4_text.entry_text(e, e.who.removeprefix(GROUP_MARK), group=e.who.startswith(GROUP_MARK))
                for e in folder.listed.entries
            )
            blocks.append("\n".join([f"# file: {folder.name}", *said, ""]))
    return "\n".join(blocks)


def _plain(text: str) -> str:
    """Text that Markdown shows as it stands."""
    return "".join(f"\\{char}" if char in "\\`*_{}[]<>#|!~" else char for char in one_line(text))


def _shown(some: Sequence[Command]) -> list[str]:
    return [*(f"    {line}" for _, line in typed(some)), ""]


BEFORE = "Paste this into root's shell once. The steps call it."


class RunbookStep(NamedTuple):
    """A step of a runbook with the commands that do it, and those that undo it."""

    step: Step
    doing: tuple[Command, ...]
    undoing: tuple[Command, ...]


def _worked(now: System, found: Sequence[Step], files: Files) -> list[RunbookStep]:
    return [
        RunbookStep(step, commands(step, state, files), commands(step.back(), step.onto(state), files))
        for step, state in walked(now, found)
    ]


def _helping(worked: Sequence[RunbookStep], files: Files) -> str:
    """The helpers that some steps call, or their undoing."""
    given = (command.by_hand for one in worked for command in (*one.doing, *one.undoing))
    called = {
        word
        for by_hand in given
        if by_hand is not None
        for word in re.findall(r"\w+", by_hand[0])
        if word in helpers(files)
    }
    return "".join(text for name, text in helpers(files).items() if name in called)


def typed(some: Sequence[Command]) -> Iterator[tuple[bool, str]]:
    """Commands as lines that can be given to a shell as they stand; before each, marked as such, what it is for."""
    for command in some:
        yield True, f"# {command.why}"
        said, given = command.by_hand or (command.shown or shlex.join(command.argv), command.given)
        if command.given and command.argv[0] == "sh" and command.by_hand is None:
            said = f"({said}\n)"  # whichever of them reads
        reads = given is not None if command.by_hand is not None else bool(given)
        here = f" <<'{END}'\n{given}{END}" if reads else ""
        yield from ((False, line) for line in f"{said}{here}".splitlines())


END = "END"  # which is no line of a list, of shares or of exports


def shown(some: Sequence[Command]) -> list[str]:
    """Commands to be read: what each is for, how it is given, and what it is given to read."""
    lines = []
    for command in some:
        lines.append(f"# {command.why}")
        lines += (command.shown or shlex.join(command.argv)).splitlines()
        lines += [f"| {line}" for line in command.given.splitlines()]
    return lines
