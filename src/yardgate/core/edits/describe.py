"""Edits in words, for a journal and for whoever is to confirm them."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import fields

from yardgate.core.access.combining import rule_words
from yardgate.core.acl import Mode, Ordered, OwnList, Posix
from yardgate.core.acl.nfs4 import EVERYTHING_BELOW
from yardgate.core.acl.words import rights, rwx, where
from yardgate.core.edits.records import (
    Edit,
    Join,
    Leave,
    PutAccepted,
    PutDirectory,
    PutGroup,
    PutNeed,
    PutPattern,
    PutPlace,
    PutPromise,
    PutService,
    PutShare,
    PutUser,
    RemoveAccepted,
    RemoveDirectory,
    RemoveGroup,
    RemoveNeed,
    RemovePattern,
    RemovePlace,
    RemovePromise,
    RemoveService,
    RemoveShare,
    RemoveUser,
    SetGrant,
    SetTarget,
    SetTitle,
)
from yardgate.core.model.agreements import Promise
from yardgate.core.model.behaviour import QUESTIONS
from yardgate.core.model.directory import Directory
from yardgate.core.model.naming import fold
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import Group, Place, Plan, Target, User
from yardgate.core.model.share import Service, Share


def describe(before: Plan, after: Plan, edits: Sequence[Edit]) -> str:
    """What some edits did, in one line for a journal: each of up to three, or how many of what kind."""
    if len(edits) <= 3:
        return "; ".join(sentence(before, after, edit) for edit in edits) or "nothing changed"
    counts = Counter(edit.op for edit in edits)
    return ", ".join(f"{number} {_COUNTED[op][number > 1]}" for op, number in counts.items())


_COUNTED = {
    "put-user": ("person added or changed", "people and services added or changed"),
    "remove-user": ("person removed", "people and services removed"),
    "put-group": ("group added or changed", "groups added or changed"),
    "remove-group": ("group removed", "groups removed"),
    "join": ("membership added", "memberships added"),
    "leave": ("membership ended", "memberships ended"),
    "put-place": ("place added or changed", "places added or changed"),
    "remove-place": ("place removed", "places removed"),
    "put-pattern": ("pattern saved", "patterns saved"),
    "remove-pattern": ("pattern deleted", "patterns deleted"),
    "put-directory": ("directory joined or changed", "directories joined or changed"),
    "remove-directory": ("directory left", "directories left"),
    "put-share": ("share added or changed", "shares added or changed"),
    "remove-share": ("share removed", "shares removed"),
    "put-service": ("service set", "services set"),
    "remove-service": ("service reset", "services reset"),
    "put-promise": ("promise added or changed", "promises added or changed"),
    "remove-promise": ("promise removed", "promises removed"),
    "put-need": ("need set", "needs set"),
    "remove-need": ("need cleared", "needs cleared"),
    "put-accepted": ("finding accepted", "findings accepted"),
    "remove-accepted": ("finding reopened", "findings reopened"),
    "set-grant": ("grant set", "grants set"),
    "set-target": ("setting changed", "settings changed"),
    "set-title": ("title changed", "titles changed"),
}
"""What is counted of an edit: one, several."""


PRESENT = {
    "added": "Add",
    "removed": "Remove",
    "changed": "Change",
    "saved": "Save",
    "deleted": "Delete",
    "shared": "Share",
    "stopped": "Stop",
    "promised": "Promise",
    "accepted": "Accept",
}


def proposal(before: Plan, after: Plan, edit: Edit) -> str:
    """One edit as something to be done: what `sentence` tells of it afterwards, before it is made."""
    if isinstance(edit, Join):
        return f"Add {after.named(edit.member)} to {after.named(edit.group)}"
    if isinstance(edit, Leave):
        return f"Take {after.named(edit.member)} out of {after.named(edit.group)}"
    verb, space, rest = sentence(before, after, edit).partition(" ")
    return f"{PRESENT.get(verb, verb)}{space}{rest}"


def sentence(before: Plan, after: Plan, edit: Edit) -> str:
    """One edit in words, with the names that people know."""

    def named(who: str) -> str:
        return after.named(who) if after.knows(who) else before.named(who)

    def where(place: str) -> str:
        return (after if place in after.places else before).path_name(place)

    match edit:
        case PutUser(user):
            return _put_words(user.kind, before.users.get(user.id), user, before, after)
        case PutGroup(group):
            return _put_words("group", before.groups.get(group.id), group, before, after)
        case PutPlace(place):
            old = before.places.get(place.id)
            if old is None:
                return f"added {place.kind} {where(place.id)}"
            return _put_words(place.kind, old, place, before, after)
        case RemoveUser(who) | RemoveGroup(who):
            return f"removed {named(who)}"
        case RemovePlace(place):
            return f"removed {where(place)} from the plan"
        case PutPattern(pattern):
            return f"{'changed' if pattern.id in before.patterns else 'saved'} the pattern {pattern.name}"
        case RemovePattern(pattern_id):
            return f"deleted the pattern {before.patterns[pattern_id].name if pattern_id in before.patterns else pattern_id}"
        case PutDirectory(directory):
            return _put_words("directory", before.directories.get(directory.id), directory, before, after)
        case RemoveDirectory(directory_id):
            left = before.directories.get(directory_id)
            return f"left the directory {left.name if left is not None else directory_id}"
        case PutShare(share):
            if share.id not in before.shares:
                return f"shared {where(share.place)} as {share.name}"
            return _share_words(before.shares[share.id], share, before, after)
        case RemoveShare(share_id):
            return f"stopped sharing {before.shares[share_id].name if share_id in before.shares else share_id}"
        case PutService(service):
            return _service_words(before.services.get(service.id), service, after)
        case RemoveService(service_id):
            return f"{service_id.upper()} is on, for everybody"
        case PutPromise(promise):
            return (
                f"{'changed the promise' if promise.id in before.promises else 'promised'}: {promised(after, promise)}"
            )
        case RemovePromise(promise_id):
            kept = before.promises.get(promise_id)
            return f"removed the promise: {promise_id if kept is None else promised(before, kept)}"
        case PutNeed(need):
            return f"{needed(after, need)}"
        case RemoveNeed(need_id):
            was = before.needs.get(need_id)
            return f"nothing needed: {need_id}" if was is None else f"nothing needed: {_of_need(before, was)}"
        case PutAccepted(accepted):
            again = f", until {accepted.until}" if accepted.until is not None else ""
            return f"accepted a finding{again}: {accepted.reason}"
        case RemoveAccepted(accepted_id):
            return f"reopened a finding: {accepted_id}"
        case Join(group, member):
            return f"{named(member)} joined {named(group)}"
        case Leave(group, member):
            return f"{named(member)} left {named(group)}"
        case SetGrant(place, who, level):
            if level is None:
                return f"{named(who)} on {where(place)}: not set"
            moved = (
                f", line {edit.at + 1}"
                if edit.at is not None and before.grants.get(place, {}).get(who) == level
                else ""
            )
            return f"{named(who)} on {where(place)}: {level.words}{moved}"
        case SetTarget(target):
            return _target_words(before.target, target, after)
        case SetTitle(name, office, str()) if (name, office) == (before.name, before.office):
            return "said what this appliance is for"
        case SetTitle(name, office):
            return f"called this plan {name}" + (f" of {office}" if office else "")


def needed(plan: Plan, need: Need) -> str:
    """A need as a sentence."""
    wish = {"any": "it does not matter what", "must not": "must not get to it"}.get(need.wish, f"needs to {need.wish}")
    return f"{wish}: {_of_need(plan, need)}"


def _of_need(plan: Plan, need: Need) -> str:
    return f"{plan.named(need.who)} on {plan.path_name(need.place)}"


def promised(plan: Plan, promise: Promise) -> str:
    """A promise as the sentence it is."""
    left_out = sorted((plan.named(who) for who in promise.except_for), key=fold)
    but = f" but {', '.join(left_out[:-1])}{' and ' if len(left_out) > 1 else ''}{left_out[-1]}" if left_out else ""
    over = f" over {promise.protocol.upper()}" if promise.protocol is not None else ""
    must = "must be able to" if promise.must else "must not be able to"
    return f"{plan.named(promise.who)}{but} {must} {promise.act} {plan.path_name(promise.place)}{over}"


def _put_words(
    kind: str,
    old: User | Group | Place | Directory | Share | None,
    new: User | Group | Place | Directory | Share,
    before: Plan,
    after: Plan,
) -> str:
    name = after.named(new.id) if isinstance(new, User | Group) else new.name
    if old is None:
        with_members = isinstance(new, Group) and len(new.members)
        return f"added {kind} {name}{f' with {with_members} {_members(with_members)}' if with_members else ''}"
    parts = [f"renamed {kind} {old.name} to {new.name}"] if old.name != new.name else []
    if isinstance(old, Group) and isinstance(new, Group):
        came = [after.named(who) for who in sorted(new.members - old.members)]
        went = [before.named(who) for who in sorted(old.members - new.members)]
        parts += [
            f"{', '.join(names)} {verb} {new.name}" for names, verb in ((came, "joined"), (went, "left")) if names
        ]
    if isinstance(old, Place) and isinstance(new, Place) and old.parent != new.parent:
        parts.append(f"moved {before.path_name(old.id)} to {after.path_name(new.id)}")
    told = {"name", "members", "parent"}
    begins = isinstance(old, Place) and isinstance(new, Place) and old.acl is None and new.acl is not None
    if begins and isinstance(new, Place) and new.inheritance_stops and new.enforced_by == "storage":
        parts.append(f"planned a list for {after.path_name(new.id)}, from what is granted there")
        told |= {"acl", "inheritance_stops", "enforced_by"}
    changed = [
        _FIELD_WORDS.get(f.name, f.name.replace("_", " "))
        for f in fields(new)
        if f.name not in told and getattr(old, f.name, None) != getattr(new, f.name)
    ]
    if (
        isinstance(old, Place)
        and isinstance(new, Place)
        and old.inheritance_stops != new.inheritance_stops
        and "inheritance_stops" not in told
    ):
        where = after.path_name(new.id)
        parts.append(
            f"{'stopped inheritance at' if new.inheritance_stops else 'let inheritance through again to'} {where}"
        )
        changed = [field for field in changed if field != "inheritance"]
        if changed:
            parts.append(f"changed its {', '.join(changed)}")
    elif changed == ["list"] and isinstance(old, Place) and isinstance(new, Place):
        parts.append(_list_words(old, new, after) or f"changed list of {kind} {new.name}")
    elif changed == ["enabled"] and isinstance(new, User):
        parts.append(f"{'enabled' if new.enabled else 'disabled'} {after.named(new.id)}")
    elif changed:
        parts.append(f"changed {', '.join(changed)} of {kind} {name}")
    return " and ".join(parts) or f"changed nothing of {kind} {name}"


def _members(number: int) -> str:
    return "member" if number == 1 else "members"


def _list_words(old: Place, new: Place, plan: Plan) -> str | None:
    """The few lines that a list has more or less than before, in words; None where they are many."""
    had, has = (None if place.acl is None else _lines(place.acl, plan) for place in (old, new))
    if (had is not None and has is not None and type(old.acl) is not type(new.acl)) or has is None:
        return None
    more = [line for line in has if line not in (had or ())]
    less = [line for line in had or () if line not in has]
    if not 0 < len(more) + len(less) <= 3:
        return None
    parts = [f"{what} “{'” and “'.join(lines)}”" for what, lines in (("with", more), ("without", less)) if lines]
    return f"list of {plan.path_name(new.id)} {' and '.join(parts)}"


def _lines(own: OwnList, plan: Plan) -> tuple[str, ...]:
    match own:
        case Ordered(entries):
            return tuple(
                f"{plan.named(e.who)}: {'no ' if e.type == 'deny' else ''}{rights(e.mask)}{'' if e.flags == EVERYTHING_BELOW else f', {where(e.flags)}'}"
                for e in entries
            )
        case Posix(access, default):
            special = {"user": "owner", "group": "owning group", "mask": "mask", "other": "others"}
            both = [("", entry) for entry in access] + [("default ", entry) for entry in default or ()]
            return tuple(f"{kind}{plan.named(e.who) if e.who else special[e.tag]}: {rwx(e.perms)}" for kind, e in both)
        case Mode(bits):
            return () if bits is None else (f"{bits:04o}",)


def _share_words(old: Share, new: Share, before: Plan, after: Plan) -> str:
    """What becomes of a share, setting by setting."""
    if old.name != new.name or old.place != new.place or old.note != new.note:
        return _put_words("share", old, new, before, after)
    said = []
    for field, yes, no in (
        ("smb", "offered over SMB", "not offered over SMB"),
        ("nfs", "offered over NFS", "not offered over NFS"),
        ("read_only", "read-only", "not read-only"),
        ("hidden", "not listed", "listed"),
        ("hide_unreadable", "hides what one cannot read", "shows what one cannot read"),
        ("versions", "shows earlier versions", "shows no earlier versions"),
        ("recycle", "keeps what is deleted", "deletes at once"),
        ("of_host", "left to the server's own configuration", "written by rollouts"),
    ):
        if getattr(old, field) != getattr(new, field):
            said.append(yes if getattr(new, field) else no)
    if old.guests != new.guests:
        said.append(f"guests get {new.guests.words}")
    if old.administrator != new.administrator:
        said.append(f"run by {after.named(new.administrator)}" if new.administrator is not None else "run by nobody")
    if old.grants != new.grants:
        own = (f"{after.named(who)} {level.words}" for who, level in (new.grants or {}).items())
        said.append("who gets in as its folder says" if new.grants is None else f"a list of its own: {', '.join(own)}")
    if old.acts_as != new.acts_as:
        who = after.named(new.acts_as) if new.acts_as is not None else "themselves"
        said.append(f"over SMB all act as {who}")
    if old.acts_as_group != new.acts_as_group:
        group = after.named(new.acts_as_group) if new.acts_as_group is not None else "no group besides their own"
        said.append(f"over SMB all are in {group}")
    if old.hosts != new.hosts:
        rules = ", ".join(f"{rule.hosts} {rule.level.words}" for rule in new.hosts)
        said.append(f"hosts: {rules or 'none'}" if len(new.hosts) <= 3 else "other host rules")
    if old.squash != new.squash:
        said.append(
            {"none": "nobody is squashed", "root": "root is squashed", "all": "everybody is squashed"}[new.squash]
        )
    return f"share {new.name}: {', '.join(said) or 'as it was'}"


def _service_words(old: Service | None, new: Service, plan: Plan) -> str:
    said = []
    name = "the appliance's pages" if new.id == "pages" else new.id.upper()
    if (old is None or old.on) != new.on:
        said.append(f"switched {name} {'on' if new.on else 'off'}")
    if (old.allowed if old is not None else None) != new.allowed:
        whos = "everybody" if new.allowed is None else " and ".join(sorted(map(plan.named, new.allowed))) or "nobody"
        said.append(f"{name} may be used by {whos}")
    return " and ".join(said) or f"left {name} as it was"


_FIELD_WORDS = {
    "of_host": "whether it is the server's own",
    "acl": "list",
    "inheritance_stops": "inheritance",
    "group": "owning group",
    "enforced_by": "what enforces grants",
    "hosts": "host rules",
    "personal_folders": "personal folders",
    "folder_of": "whom it is for",
    "group_quotas": "quotas of groups",
    "file_system": "what it is on the host",
    "snapshots": "how many snapshots are kept",
    "options": "how files are kept",
}


def _target_words(old: Target, new: Target, plan: Plan) -> str:
    said = []
    if (old.precedence, old.combining) != (new.precedence, new.combining):
        said.append(f"when several grants apply: {rule_words(new)}")
    for what, was, now in (
        ("baseline", old.baseline, new.baseline),
        ("administrators", old.administrators, new.administrators),
    ):
        if was != now:
            said.append(f"{what}: {plan.named(now) if now else 'no group'}")
    if old.baseline_covers_directory != new.baseline_covers_directory:
        said.append(f"the baseline {'covers' if new.baseline_covers_directory else 'leaves out'} directory users")
    if old.traverse != new.traverse:
        said.append(
            f"passing through folders: {'asks for a right' if new.traverse == 'checked' else 'asks for no right'}"
        )
    if old.attributes_open != new.attributes_open:
        said.append(f"attributes: {'open to everybody' if new.attributes_open else 'as lists say'}")
    if old.host_rules != new.host_rules:
        said.append(f"of host rules that take in one host: the {new.host_rules} counts")
    if old.wildcards != new.wildcards:
        said.append(f"wildcards: compared with {'host names' if new.wildcards == 'names' else 'names and addresses'}")
    if old.nfs_traverse != new.nfs_traverse:
        said.append(
            f"folders above an NFS share: {'ask for a right' if new.nfs_traverse == 'checked' else 'ask for no right'}"
        )
    if old.addresses != new.addresses:
        said.append(f"clients reach it as {', '.join(new.addresses) or 'the plan is called'}")
    if old.nfs_domain != new.nfs_domain:
        said.append(
            f"names over NFS end in @{new.nfs_domain}"
            if new.nfs_domain
            else "the domain of names over NFS is not known"
        )
    if old.share_groups != new.share_groups:
        said.append(
            "people granted something by name are in groups of the share"
            if new.share_groups
            else "shares name people who are granted something by name"
        )
    titles = {question.id: question.title for question in QUESTIONS}
    for words, some in (
        ("known", set(new.answered) - set(old.answered)),
        ("not known any more", set(old.answered) - set(new.answered)),
    ):
        if some:
            said.append(f"{words} of the appliance: {'; '.join(titles[one] for one in titles if one in some)}")
    return "; ".join(said) or "settings unchanged"
