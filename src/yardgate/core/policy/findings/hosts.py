"""Findings about NFS: which hosts may mount a share, and as whom."""

import re
from dataclasses import replace
from ipaddress import ip_address, ip_network

from yardgate.core.access.membership import token
from yardgate.core.access.nfs_hosts import classes
from yardgate.core.access.paths import CLAIMED, is_on, seen_otherwise, unclaimed
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import PutShare
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Address, HostRule, Hosts, Network, Share, host_rule, hosts
from yardgate.core.policy.findings.case import Case, Check, Finding, Findings

WIDE = {4: 24, 6: 64}
"""The prefix of an ordinary network of an office; a shorter one takes in more than that."""


def host_wide(case: Case) -> Findings:
    """A host rule takes in more hosts than it was made for: a whole network, where the share's note names single hosts in it, or more than one network.

    Write a line for each host that needs it. Hosts that have a rule of their own keep it."""
    for share in _over_nfs(case.plan):
        for number, rule in enumerate(share.hosts):
            known = hosts(rule.hosts)
            again = any(other.hosts == rule.hosts for other in share.hosts[:number])
            if again or rule.level == Level.NA or known.kind in ("address", "name"):
                continue
            meant = _named_inside(share, rule, known)
            size = _how_many(known)
            if meant:
                named = " and ".join(str(address) for address in meant)
                lines = tuple(HostRule(hosts=str(address), level=rule.level) for address in meant)
                fix = (PutShare(replace(share, hosts=(*share.hosts[:number], *lines, *share.hosts[number + 1 :]))),)
                said = f"{share.name} gives {rule.hosts} {rule.level.words}, which is {size}, and names only {named} in it."
                yield Finding(
                    "host-wide", "serious", (share.id, rule.hosts), said, (), fix, f"Give it to {named} alone."
                )
            elif known.network is None or known.network.prefixlen < WIDE[known.network.version]:
                said = f"{share.name} gives {rule.hosts} {rule.level.words}, which is {size}."
                yield Finding("host-wide", "consider", (share.id, rule.hosts), said)


def _over_nfs(plan: Plan) -> list[Share]:
    return [share for share in plan.shares.values() if share.nfs and is_on(plan, "nfs")]


def _named_inside(share: Share, rule: HostRule, known: Hosts) -> list[Address]:
    """Single hosts inside a rule that the share's note names, and that have no rule of their own."""
    own = {hosts(other.hosts).network for other in share.hosts if other is not rule}
    found: list[Address] = []
    for text in re.findall(r"[0-9a-fA-F:.]+", share.note):
        try:
            address = ip_address(text.rstrip(":."))
        except ValueError:
            continue
        if known.take_in(address) and address not in found and ip_network(address) not in own:
            found.append(address)
    return found


def _how_many(known: Hosts) -> str:
    if known.kind == "all":
        return "every host there is"
    if known.network is None:
        return "every host of that name"
    return (
        f"{known.network.num_addresses} addresses" if known.network.prefixlen >= 8 else "a large part of all addresses"
    )


def host_never(case: Case) -> Findings:
    """A host rule that never counts: another takes in all its hosts before, or this appliance never matches such a rule.

    Take it away, or put it before the other."""
    for share in _over_nfs(case.plan):
        told: set[str] = set()
        for number, rule in enumerate(share.hosts):
            known = hosts(rule.hosts)
            by = next((other for other in share.hosts[:number] if _covers(case.plan, hosts(other.hosts), known)), None)
            if by is not None:
                why = f"{by.hosts} takes in all its hosts before"
            elif (
                known.kind == "pattern"
                and case.plan.target.wildcards == "names"
                and not re.search(r"[A-Za-z]", rule.hosts)
            ):
                why = "this appliance compares wildcards with host names, never with addresses"
            else:
                continue
            if rule.hosts in told:
                continue
            told.add(rule.hosts)
            fix = (PutShare(replace(share, hosts=share.hosts[:number] + share.hosts[number + 1 :])),)
            said = f"The host rule {rule.hosts} of {share.name} never counts: {why}."
            yield Finding(
                "host-never", "consider", (share.id, rule.hosts), said, (), fix, "Remove the rule; nothing changes."
            )


def _covers(plan: Plan, one: Hosts, other: Hosts) -> bool:
    """Whether a rule that stands before another leaves it nothing."""
    if (one.kind, one.network, one.pattern) == (other.kind, other.network, other.pattern):
        return True
    if plan.target.host_rules == "narrowest":
        return False
    if one.kind == "all":
        return True
    return one.network is not None and other.network is not None and _inside(other.network, one.network)


def _inside(inner: Network, outer: Network) -> bool:
    return inner.version == outer.version and inner.subnet_of(outer)  # type: ignore[arg-type]


def root_unsquashed(case: Case) -> Findings:
    """Root of every host in a whole network is root in a share: whoever is root on any machine there can do everything.

    Squash root, or name the one host that needs it."""
    for share in _over_nfs(case.plan):
        wide = [
            rule for rule in share.hosts if rule.level > Level.NA and hosts(rule.hosts).kind not in ("address", "name")
        ]
        if share.squash == "none" and wide:
            said = f"Root on any host of {wide[0].hosts} is root in {share.name}."
            fix = (PutShare(replace(share, squash="root")),)
            yield Finding(
                "root-unsquashed", "serious", (share.id,), said, (), fix, "Squash root: it becomes the guest."
            )


def many_groups(case: Case) -> Findings:
    """An account is in more groups than an NFS client can claim: those that do not fit do not count there.

    Of the groups only sixteen fit beside the primary group (RFC 5531). Put the person into fewer groups."""
    if not any(over.protocol == "nfs" for over in case.outcome.over):
        return
    for number in seen_otherwise(case.matrix):
        who = case.matrix.counting.subjects[number]
        lost = unclaimed(case.plan, who, token(case.plan, who))
        if lost:
            said = f"{case.plan.named(who)} is in {len(lost) + CLAIMED} groups beside the primary one; over NFS {case.names(lost)} do not count."
            yield Finding("many-groups", "consider", (who,), said)


def no_hosts(case: Case) -> Findings:
    """A share is offered over NFS, and no host may mount it.

    Say which host may."""
    for share in _over_nfs(case.plan):
        if all(rule.level == Level.NA for rule in share.hosts):
            yield Finding(
                "no-hosts", "consider", (share.id,), f"{share.name} is offered over NFS, and no host may mount it."
            )


def _in_one_dataset(plan: Plan, outer: str, inner: str) -> bool:
    """Whether a place lies inside another, and no dataset begins on the way, itself included."""
    path = plan.path(inner)
    below = path[path.index(outer) + 1 :] if outer in path else ()
    return bool(below) and all(plan.places[place].kind == "folder" for place in below)


def inside_another(case: Case) -> Findings:
    """A folder is shared over NFS, a folder around it in the same dataset too, and the two say different things to the same hosts.

    A host that the outer share speaks of reaches the inner one through the outer one with version 4 of NFS, by the outer one's rules (RFC 7530 section 7
    has one tree of all exports). Say the same in both, share only one of them over NFS, or make the inner folder a dataset: what is a file system
    of its own is asked by its own rules."""
    order, wildcards = case.plan.target.host_rules, case.plan.target.wildcards
    shares = _over_nfs(case.plan)
    for inner in shares:
        for outer in shares:
            if not _in_one_dataset(case.plan, outer.place, inner.place):
                continue
            for some in classes([rule.hosts for rule in (*outer.hosts, *inner.hosts)], wildcards):
                by, own = (
                    host_rule(share.hosts, order, some.address, some.name, wildcards) for share in (outer, inner)
                )
                if by is None or (own is not None and (own.level, inner.squash) == (by.level, outer.squash)):
                    continue
                says = own.level.words if own is not None else "nothing"
                if own is not None and own.level == by.level:
                    says = f"{says}, and squashes differently"
                said = f"With NFS version 4, {some.words} comes to {inner.name} through {outer.name}, which says {by.level.words}; {inner.name} says {says}."
                yield Finding("nfs-inside", "consider", (inner.id, outer.id), said)
                break


CHECKS = (
    Check("root-unsquashed", "serious", "Root of a whole network is root here", root_unsquashed),
    Check("host-wide", "consider", "A host rule takes in more than it names", host_wide),
    Check("host-never", "consider", "A host rule that never counts", host_never),
    Check("nfs-inside", "consider", "A share over NFS inside another", inside_another),
    Check("many-groups", "consider", "More groups than NFS can claim", many_groups),
    Check("no-hosts", "consider", "No host may mount a share", no_hosts),
)
