"""Everything that a rollout can be taken away as: the one list that the API, the command line and the browser's menu read. A new paper is a line here."""

from collections.abc import Callable, Sequence
from typing import Literal, NamedTuple

from yardgate.core.host.compiled import Compiled
from yardgate.core.host.state import System
from yardgate.core.host.steps import Step
from yardgate.core.model.plan import Plan
from yardgate.drivers.linux.handout import restore_text, runbook, runbook_page, script, specs_text
from yardgate.formats import exports, ldif, smbconf

PLAIN, HTML, MARKDOWN = "text/plain; charset=utf-8", "text/html; charset=utf-8", "text/markdown; charset=utf-8"


class TakenAway(NamedTuple):
    """A rollout: what a plan comes to, what the host has, and the steps between that are to be done. name: of the file that it is written to.
    begins: for which host, and from what it begins there, in a line; host: its own name, where that is known."""

    plan: Plan
    meant: Compiled
    there: System
    doing: Sequence[Step]
    title: str
    name: str
    begins: str = ""
    host: str = ""


class Paper(NamedTuple):
    """words: in a menu. ending: of the name of a file with it. media: its type (RFC 6838). of: the steps to be done, or all that the plan comes to."""

    name: str
    words: str
    ending: str
    media: str
    write: Callable[[TakenAway], str]
    of: Literal["steps", "system"]


PAPERS = (
    Paper("page", "Runbook, to print", "runbook.html", HTML, lambda of: runbook_page(of.title, of.there, of.doing, of.meant.left_out, of.begins), "steps"),
    Paper("runbook", "Runbook (Markdown)", "runbook.md", MARKDOWN, lambda of: runbook(of.title, of.there, of.doing, of.meant.left_out, of.begins), "steps"),
    Paper("script", "Script, with dry run and undo", "rollout.sh", PLAIN, lambda of: script(of.title, of.there, of.doing, name=of.name, begins=of.begins, host=of.host), "steps"),
    Paper(
        "smb", "Shares, for the SMB server’s configuration", "shares.conf", PLAIN,
        lambda of: smbconf.render(of.meant.system.offers.values()), "system",
    ),
    Paper("exports", "Exports, for /etc/exports.d", "yard.exports", PLAIN, lambda of: exports.render(of.meant.system.exports.values()), "system"),
    Paper("setfacl", "Owners and lists, for setfacl --restore", "lists.setfacl", PLAIN, lambda of: restore_text(of.meant.system), "system"),
    Paper("nfs4", "Ordered lists, for nfs4_setfacl", "lists.nfs4", PLAIN, lambda of: specs_text(of.meant.system), "system"),
    Paper("ldif", "Local people and groups (LDIF)", "accounts.ldif", PLAIN, lambda of: ldif.local_accounts(of.plan), "system"),
)  # fmt: skip
BY_NAME = {one.name: one for one in PAPERS}
