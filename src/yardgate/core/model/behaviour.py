"""What appliances differ in, as questions for somebody who can look at one, and the kinds of which all of it is known."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Behaviour, Plan, Target


@dataclass(frozen=True, slots=True, kw_only=True)
class Choice:
    """An answer: what happens, and what is then set of the target."""

    id: str
    happens: str
    words: str
    sets: Mapping[str, str]

    def on(self, target: Target) -> Target:
        changed: dict[str, Any] = dict(self.sets)
        return replace(target, **changed)

    def holds(self, target: Target) -> bool:
        return all(getattr(target, name) == value for name, value in self.sets.items())


@dataclass(frozen=True, slots=True, kw_only=True)
class ApplianceQuestion:
    """What happens where `said` is said and `who` comes to `where`? find_out: how to see it on the appliance. only_nfs: where nothing is shared over NFS, it makes no difference."""

    id: Behaviour
    title: str
    asks: str
    said: tuple[tuple[str, Level], ...]
    who: str
    where: str
    choices: tuple[Choice, ...]
    find_out: str
    only_nfs: bool = False


QUESTIONS: tuple[ApplianceQuestion, ...] = (
    ApplianceQuestion(
        id="several",
        title="A person is in two groups",
        asks="One group may change the folder, the other is refused. What does the person get?",
        said=(("Draughting", Level.RW), ("Apprentices", Level.NA)),
        who="Priya",
        where="toolpaths",
        choices=(
            Choice(
                id="refusal",
                happens="Refused.",
                words="A refusal beats everything; without one, the most that is granted counts.",
                sets={"combining": "refusal"},
            ),
            Choice(
                id="widest",
                happens="May change.",
                words="The most that is granted counts; a refusal in another group does nothing.",
                sets={"combining": "widest"},
            ),
            Choice(
                id="narrowest",
                happens="Refused, and read-only beats read-write, too.",
                words="The least that is granted counts.",
                sets={"combining": "narrowest"},
            ),
            Choice(
                id="first",
                happens="It depends on the order.",
                words="The first line of the list that concerns the person counts.",
                sets={"combining": "first"},
            ),
        ),
        find_out="Make a folder, two groups and an account that is in both. Give one group read-write and refuse the other; sign in as that account and save a file. "
        "Then make the refusal read-only, and try again.",
    ),
    ApplianceQuestion(
        id="nearest",
        title="A person is granted something, and so is a group of theirs",
        asks="The group is refused, the person has a line of their own. Does the own line come first?",
        said=(("Ledger", Level.NA), ("Oskar himself", Level.RW)),
        who="Oskar",
        where="payroll",
        choices=(
            Choice(
                id="pooled",
                happens="No, all lines count together.",
                words="What was answered about two groups holds for people's own lines as well.",
                sets={"precedence": "pooled"},
            ),
            Choice(
                id="nearest",
                happens="Yes.",
                words="A line for the person decides; without one, those for groups do; without these, those for everyone.",
                sets={"precedence": "nearest"},
            ),
        ),
        find_out="Refuse a group a folder, give one of its members read-write there, sign in as this member and save a file.",
    ),
    ApplianceQuestion(
        id="traverse",
        title="A folder within one that is closed",
        asks="The person may change the inner folder and may not enter the outer one. Do they get there by its path?",
        said=(("hulls", Level.NA), ("hulls/warranty", Level.RW)),
        who="Lena",
        where="hulls/warranty",
        choices=(
            Choice(
                id="checked",
                happens="No.",
                words="Every folder on the way asks for the right to enter, as a Linux kernel does.",
                sets={"traverse": "checked"},
            ),
            Choice(
                id="bypassed",
                happens="Yes.",
                words="The folder itself decides, as with an SMB server that keeps ordered lists itself.",
                sets={"traverse": "bypassed"},
            ),
        ),
        find_out="In a share make a folder that an account may not enter, with one in it that it may change. Sign in as this account and open the inner one by typing its whole path.",
    ),
    ApplianceQuestion(
        id="nfs_traverse",
        title="Over NFS: a closed folder above the share",
        asks="The folder above the top of a share may not be entered. Does a client that mounts the share get in?",
        said=(("hulls", Level.NA), ("share hulls/warranty", Level.RW)),
        who="Lena",
        where="the share",
        choices=(
            Choice(
                id="checked",
                happens="No.",
                words="Folders above a share ask, as a Linux kernel's server does of clients of version 4.",
                sets={"nfs_traverse": "checked"},
            ),
            Choice(
                id="bypassed",
                happens="Yes.",
                words="The share is mounted by itself, as with version 3.",
                sets={"nfs_traverse": "bypassed"},
            ),
        ),
        find_out="Export a folder that lies in one with mode 0700, mount it on a Linux client, and list it as an ordinary user.",
        only_nfs=True,
    ),
    ApplianceQuestion(
        id="host_rules",
        title="Over NFS: a host that two rules take in",
        asks="The network may only read, this one host may write. What may the host do?",
        said=(("192.0.2.0/24", Level.RO), ("192.0.2.7", Level.RW)),
        who="192.0.2.7",
        where="the share",
        choices=(
            Choice(
                id="narrowest",
                happens="Write.",
                words="The narrowest rule counts, wherever it stands, as with a Linux kernel's server.",
                sets={"host_rules": "narrowest"},
            ),
            Choice(
                id="first",
                happens="Read.",
                words="The rule that stands first counts.",
                sets={"host_rules": "first"},
            ),
        ),
        find_out="Export a folder read-only to your network and, in a line below, read-write to one client. Mount it there and make a file.",
        only_nfs=True,
    ),
    ApplianceQuestion(
        id="wildcards",
        title="Over NFS: a rule with * in it",
        asks="A rule says 192.0.2.*. Does it take in the host with the address 192.0.2.7?",
        said=(("192.0.2.*", Level.RW),),
        who="192.0.2.7",
        where="the share",
        choices=(
            Choice(
                id="names",
                happens="No.",
                words="* and ? are compared with host names alone, as with a Linux kernel's server.",
                sets={"wildcards": "names"},
            ),
            Choice(
                id="both",
                happens="Yes.",
                words="They are compared with addresses as well.",
                sets={"wildcards": "both"},
            ),
        ),
        find_out="Export a folder to 192.0.2.* (your network's own numbers) and nothing else, and mount it on a client that has such an address.",
        only_nfs=True,
    ),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Profile:
    """A kind of appliance of which every answer is known."""

    id: str
    title: str
    words: str
    sets: Mapping[str, str | bool]

    def on(self, target: Target) -> Target:
        changed: dict[str, Any] = dict(self.sets)
        return replace(target, **changed, answered=tuple(question.id for question in QUESTIONS))


PROFILES: tuple[Profile, ...] = (
    Profile(
        id="linux",
        title="A Linux file server",
        words="The kernel keeps POSIX lists or mode bits and asks at every folder; its own NFS server. Shares over SMB refuse first, and else give the most.",
        sets={
            "precedence": "pooled",
            "combining": "refusal",
            "traverse": "checked",
            "attributes_open": False,
            "nfs_traverse": "checked",
            "host_rules": "narrowest",
            "wildcards": "names",
        },
    ),
    Profile(
        id="ordered",
        title="A file server with ordered lists",
        words="The SMB server keeps lists of allow and deny itself; the first line that names a person counts, and only the folder itself is asked.",
        sets={
            "precedence": "pooled",
            "combining": "first",
            "traverse": "bypassed",
            "attributes_open": True,
            "nfs_traverse": "checked",
            "host_rules": "narrowest",
            "wildcards": "names",
        },
    ),
    Profile(
        id="own-first",
        title="An appliance with a table of permissions for each share",
        words="A line for a person comes before lines for groups; among those a refusal beats everything. NFS rules are read from the top, with * for addresses, too.",
        sets={
            "precedence": "nearest",
            "combining": "refusal",
            "traverse": "checked",
            "attributes_open": False,
            "nfs_traverse": "bypassed",
            "host_rules": "first",
            "wildcards": "both",
        },
    ),
)


def asked(plan: Plan) -> Sequence[ApplianceQuestion]:
    """The questions that make a difference to a plan."""
    by_nfs = any(share.nfs for share in plan.shares.values())
    return [question for question in QUESTIONS if by_nfs or not question.only_nfs]


def open_questions(plan: Plan) -> Sequence[ApplianceQuestion]:
    """Those of them that nobody has answered."""
    return [question for question in asked(plan) if question.id not in plan.target.answered]


def answering(target: Target, question: Behaviour, *, known: bool) -> Target:
    """The target, of which a question is answered, or not any more."""
    others = {one for one in target.answered if one != question} | ({question} if known else set())
    return replace(target, answered=tuple(one.id for one in QUESTIONS if one.id in others))
