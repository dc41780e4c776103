"""Lines of exports(5) as the server's own tool reads them, and as a plan does."""

import re
from ipaddress import ip_network

import pytest

from tests.real.host import host
from tests.real.test_host import shell
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.model.plan import Plan
from yardgate.formats import server

LINES = r"""192.0.2.0/24(rw)
192.0.2.1

(rw)
192.0.2.1 (rw)
-ro,all_squash 192.0.2.1(rw) 192.0.2.2
192.0.2.5/24(rw)
*(ro,sec=krb5)
*(sec=sys:krb5,rw)
*(sec=krb5,rw,sec=sys,ro)
*(sec=krb5:sys,ro,rw)
*(rw,sec=sys:krb5p,ro)
*(ro,sec=sys,rw,sec=krb5)
@lab(rw)
*.example(rw,no_root_squash)
192.0.2.1(rw,no_root_squash) 192.0.2.2(rw)
192.0.2.0/255.255.255.0(rw)
192.0.2.1(rw,anonuid=1201)
192.0.2.1(ro,rw)
192.0.2.1(rw,ro)
fd00::/64(rw)
192.0.2.1(rw) 192.0.2.1(ro)
-sec=krb5 192.0.2.1(rw)
192.0.2.1(all_squash,no_all_squash,rw)
gss/krb5(rw)
-rw 192.0.2.1 192.0.2.2(ro)
host[a-c].example(rw)
192.0.2.1(rw) \
 192.0.2.2(ro)
192.0.2.1(no_root_squash,root_squash)
192.0.2.1(all_squash,no_root_squash)
192.0.2.1(rw) # remark
-rw,sec=krb5:sys 192.0.2.1
192.0.2.1(sec=none,rw)
192.0.2.?(rw)
192.0.2.*(rw) 192.0.2.7(ro)
192.0.2.1(rw,fsid=7,crossmnt,insecure,async,no_wdelay,nohide,mp,security_label,pnfs)
192.0.2.0/24(ro) 192.0.2.128/25(rw) 192.0.2.200(ro)
*(ro) *.quay.example(rw)
-ro
-no_root_squash 192.0.2.1(rw) 192.0.2.2(root_squash,rw)
fd00::1(rw) 2001:db8::/32
192.0.2.9(rw,no_subtree_check,sync,no_acl)"""


def plain(client: str) -> str:
    """Hosts as a plan has them."""
    if "/" not in client or client.startswith("gss"):
        return client
    network = ip_network(client, strict=False)
    return str(network.network_address if network.num_addresses == 1 else network)


def test_forty_lines_are_read_as_the_server_reads_them() -> None:
    lines = re.split(r"(?<!\\)\n", LINES)
    assert len(lines) >= 40
    text = "".join(f"/srv/d{number}\t{line}\n" for number, line in enumerate(lines)) + "/srv/d0 192.0.2.77(ro)\n"
    lists = "".join(
        f"# file: /srv{one}\nuser::rwx\ngroup::r-x\nother::r-x\n\n"
        for one in ("", *(f"/d{n}" for n in range(len(lines))))
    )
    reading = server.read(Plan(), server.Copied(exports=text, listing=lists))
    plan, _ = apply(Plan(), reading.edits)
    with host() as at:
        shell(at, f"mkdir -p {' '.join(f'/srv/d{number}' for number in range(len(lines)))}; cat > /etc/exports", text)
        shell(at, "exportfs -ra")
        table = shell(at, "exportfs -s").splitlines()
    assert len(table) > 40
    shares = {plan.path_name(share.place): share for share in plan.shares.values()}
    told = {(note.line, note.toward) for note in reading.notes if note.file == "exports"}
    seen = set()
    for row in table:
        path, client, options = re.fullmatch(r"/(srv/d\d+)\s+(\S+?)\((.*)\)", row).groups()  # type: ignore[union-attr]
        number = next(
            n
            for n, line in enumerate(text.splitlines(), 1)
            if line.startswith(f"/{path}\t") or line.startswith(f"/{path} ")
        )
        towards = {toward for line, toward in told if line == number}
        share = shares.get(path)
        rules = {rule.hosts: rule.level for rule in share.hosts} if share is not None else {}
        if plain(client) not in rules:
            assert "more" in towards, row
            continue
        seen.add((path, plain(client)))
        flavours = re.findall(r"sec=([\w:]+),(r[ow]),(\w*root_squash),(\w*all_squash)", options)
        by = {flavour: said for some, *said in flavours for flavour in some.split(":")}
        access, root, everybody = by.get("sys", ["", "root_squash", "no_all_squash"])
        assert rules[plain(client)] == {"rw": Level.RW, "ro": Level.RO, "": Level.NA}[access], row
        if any("krb5" in flavour for flavour in by):
            assert "more" in towards, row
        squash = "all" if everybody == "all_squash" else "none" if root == "no_root_squash" else "root"
        assert share is not None
        assert share.squash == squash or "more" in towards, row
    planned = {(path, rule.hosts) for path, share in shares.items() for rule in share.hosts}
    assert planned == seen, "nothing that the server has not"


@pytest.mark.parametrize("wrong", ["192.0.2.1(rw,bogus)", "192.0.2.1(rw)192.0.2.2(rw)", "192.0.2.1(rw"])
def test_what_the_server_cannot_read_ends_its_reading(wrong: str) -> None:
    text = f"/srv/a 192.0.2.1(rw)\n/srv/b {wrong}\n/srv/c 192.0.2.1(rw)\n"
    lists = "".join(f"# file: /srv/{one}\nuser::rwx\ngroup::r-x\nother::r-x\n\n" for one in "abc")
    reading = server.read(Plan(), server.Copied(exports=text, listing=lists))
    plan, _ = apply(Plan(), reading.edits)
    assert [share.name for share in plan.shares.values()] == ["a"]
    assert [(note.line, note.toward) for note in reading.notes if note.file == "exports"] == [(2, "either")]
    with host() as at:
        shell(at, "mkdir -p /srv/a /srv/b /srv/c; cat > /etc/exports", text)
        shell(at, "exportfs -ra")
        assert "/srv/c" not in shell(at, "exportfs -s")
