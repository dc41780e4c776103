"""A file server's files: how its SMB server's configuration is read, what its lists come to, and what is told where it is not understood."""

from dataclasses import replace

import pytest

from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import EVERYONE, Plan, new_plan
from yardgate.formats import server, smb_server
from yardgate.formats.reading import FormatError

ACCOUNTS = "ann:x:1001:100:Ann:/:/bin/sh\nbo:x:1002:100:Bo:/:/bin/sh\ncy:x:1003:100:Cy:/:/bin/sh\n"
GROUPS = "crew:x:1100:ann,bo\nlate:x:1101:bo,cy\n"
LISTS = "# file: /srv/a\n# owner: root\n# group: root\nuser::rwx\ngroup::r-x\nother::r-x\n"


def taken(conf: str, exports: str = "", **more: str) -> tuple[Plan, list[str]]:
    copied = server.Copied(
        passwd=ACCOUNTS, group=GROUPS, smb={"smb.conf": conf, **more}, exports=exports, listing=LISTS
    )
    reading = server.read(Plan(), copied)
    plan, _ = apply(Plan(), reading.edits)
    assert check(plan) == ()
    return plan, [f"{note.where}: {note.text}" for note in reading.notes]


def said(plan: Plan) -> dict[str, Level]:
    share = next(iter(plan.shares.values()))
    return {
        who if who == EVERYONE else plan.called(who): level for who, level in plan.grants.get(share.place, {}).items()
    }


@pytest.mark.parametrize(
    ("lines", "grants"),
    [
        ("read only = yes", {"everyone": "RO"}),
        ("writable = yes", {"everyone": "RW"}),
        ("WRITE  OK = 1", {"everyone": "RW"}),
        ("valid users = @crew", {"crew": "RO"}),
        ('valid users = "ann" , +late\nwrite list = ann', {"ann": "RW", "late": "RO"}),
        ("valid users = @crew\nwrite list = @late", {"crew": "RO", "bo": "RW"}),
        ("valid users = @Crew ANN &late", {"ann": "RO"}),
        ("valid users = +late;bo\nReadOnly = no", {"late": "RW", "bo": "RW"}),
        ('valid users = @"late", "Unix User\\ann"', {"late": "RO", "ann": "RO"}),
        ("valid users = S-1-22-2-1100 S-1-22-1-1003", {"crew": "RO", "cy": "RO"}),
        ("valid users = %U", {"everyone": "RO"}),
        ("read only = no\nread list = ann", {"ann": "RO", "bo": "RW", "cy": "RW"}),
        ("invalid users = @late\nread only = no", {"everyone": "RW", "late": "NA"}),
        ("invalid users = ann\nvalid users = ann bo\nwrite list = ann", {"ann": "NA", "bo": "RO"}),
        ("available = no", {}),
        ("valid users = %S", {}),
    ],
)
def test_what_a_share_says_of_who_gets_in_becomes_grants(lines: str, grants: dict[str, str]) -> None:
    plan, _ = taken(f"[global]\n workgroup = X\n[ a ]\n path = /srv/a\n{lines}\n")
    assert {who: str(level) for who, level in said(plan).items()} == grants


def test_what_is_included_again_and_again_ends() -> None:
    files = {f"{n}.conf": f"include = {n + 1}.conf\n" * 30 + "path = /srv/a\n" for n in range(9)}
    found = smb_server.parse({"smb.conf": "[a]\ninclude = 0.conf\n", **files, "9.conf": "comment = deep\n"}, "smb.conf")
    assert found.shares["a"].settings["comment"].value == "deep"
    assert [remark.text for remark in found.remarks] == ["this and all that follows is left out: too much is included"]


def test_defaults_copies_includes_and_lines_that_go_on_are_understood() -> None:
    found = smb_server.parse(
        {
            "/etc/samba/smb.conf": "[GLOBAL]\n guest ok = yes\n[one]\n path = /x\n comment = a \\\n  b\n[two]\n copy = one\n path = /y\n"
            "include = /etc/samba/more.conf\n read only = no\n; no\n#no\n[ONE]\n hide unreadable = yes\n",
            "/etc/samba/more.conf": " browseable = no\n",
        },
        "/etc/samba/smb.conf",
    )
    one, two = found.shares["one"], found.shares["two"]
    assert found.remarks == []
    assert found.yes(one, "guest ok", False), "from [global]"
    assert found.yes(one, "hide unreadable", False), "both sections count"
    assert one.settings["comment"].value == "a b"
    assert two.settings["comment"].value == "a b"
    assert two.settings["path"].value == "/y"
    assert two.settings["browseable"].value == "no"
    assert not found.yes(two, "read only", True), "the section goes on after what is included"


def test_what_is_not_understood_is_told_with_its_file_and_line() -> None:
    conf = "[a]\n path = /srv/a\n force user = ghost\n nonsense\n max log size = 3\n valid users = @nobody-there ann\n[b]\n path = /srv/%u\n[c]\n[d]\n path = /else\n[x:y]\n path = /srv/a\n include = self.conf\n"
    _, notes = taken(
        conf,
        "/srv/a host(rw,fsid=0,anonuid=7) -ro 192.0.2.300\n/else *(rw)\n/srv/a x(odd)\n",
        **{"self.conf": "include = self.conf\n"},
    )
    for told in (
        "smb.conf, line 4: not understood: “nonsense” is not a setting",
        "smb.conf, line 3: [a] has all act as “ghost”, who did not come in",
        "smb.conf, line 5: [a] max log size = 3 is not understood",
        "smb.conf, line 6: [a] valid users names “@nobody-there”, which is not a group that came in",
        "smb.conf, line 8: [b] has the path “/srv/%u”, another for everybody",
        "[c] says no path, so nobody gets in",
        "[d] offers “/else”, of which no list was given",
        "[x:y] has :",
        "includes itself",
        "exports, line 1: /srv/a: host: guests count as the number 7",
        "exports, line 3: “x(odd)” is nothing that the server can read",
        "exports, line 1: /srv/a: 192.0.2.300",
        "exports, line 2: “/else” is exported, of which no list was given",
    ):
        assert any(told in note for note in notes), (told, notes)


def test_two_shares_of_one_folder_are_each_as_they_say() -> None:
    conf = "[a]\n path = /srv/a\n valid users = ann\n[b]\n path = /srv/./a/\n valid users = bo\n[c]\n copy = a\n"
    plan, _ = taken(conf + " path = /srv/a\n[d]\n path = /srv/a\n valid users = ann\n writable = yes\n")
    assert {s.name: s.grants and [str(x) for x in s.grants.values()] for s in plan.shares.values()} == {
        "a": None, "b": ["RO"], "c": None, "d": ["RW"],
    }  # fmt: skip


def test_the_read_only_one_of_two_is_the_same_share_for_reading() -> None:
    conf = "[a]\n path = /srv/a\n valid users = @crew\n writable = yes\n[b]\n path = /srv/a\n valid users = @crew\n"
    plan, _ = taken(conf)
    assert {s.name: (s.read_only, s.grants) for s in plan.shares.values()} == {"a": (False, None), "b": (True, None)}


def test_a_server_taken_in_again_changes_nothing_but_what_is_other() -> None:
    conf = "[a]\n path = /srv/a\n valid users = ann bo\n"
    plan, _ = taken(conf, "/srv/a 192.0.2.0/24(rw)\n")
    copied = server.Copied(passwd=ACCOUNTS, group=GROUPS, smb={"smb.conf": conf.replace("ann ", "")}, listing=LISTS)
    again, _ = apply(plan, server.read(plan, copied).edits)
    assert again.places == plan.places
    assert list(again.shares) == list(plan.shares)
    assert said(again) == {"bo": Level.RO}


def test_files_are_known_by_their_names() -> None:
    found = server.sorted_out(
        {
            "etc/passwd": "p",
            "group": "g",
            "smb.conf": "m",
            "more.conf": "i",
            "exports": "e",
            "yard.exports": "f",
            "lists.txt": "l",
        }
    )
    assert (found.passwd, found.group, found.exports, found.listing) == ("p\n", "g\n", "e\nf\n", "l\n")
    assert found.smb == {"smb.conf": "m", "more.conf": "i"}
    with pytest.raises(FormatError, match="two files of the kind passwd"):
        server.sorted_out({"a/passwd": "", "b/passwd": ""})
    with pytest.raises(FormatError, match=r"no file “smb\.conf”"):
        server.read(Plan(), server.sorted_out({"other.conf": "[a]\n", "lists.conf": "[b]\n"}))
    told = server.sorted_out({"a.txt": "# file: /srv\n", "b.txt": "Unix username: ann\n", "alone.conf": "[a]\n"})
    assert (told.listing, told.smb_accounts, told.main) == ("# file: /srv\n", "Unix username: ann\n", "alone.conf")


def test_accounts_of_any_number_come_in_where_folders_or_the_smb_server_name_them() -> None:
    """A service account of a server that this made itself, below the numbers of people; root, and who is named nowhere, stay out."""
    passwd = "root:x:0:0::/:/bin/sh\nann:x:1001:1001::/:/bin/false\nsvc-scan:x:972:1001::/:/bin/false\nlp:x:7:7::/:/bin/false\n"
    copied = server.Copied(
        passwd=passwd,
        group="root:x:0:\ncrew:x:1001:ann,svc-scan\nwww-data:x:33:\nadm:x:4:ann\n",
        smb={"/etc/samba/smb.conf": "[work]\npath = /srv/keel\nvalid users = ann svc-scan\nread only = no\n"},
        main="/etc/samba/smb.conf",
        listing="# file: /srv/keel\n# owner: svc-scan\n# group: www-data\nuser::rwx\nuser:svc-scan:rwx\ngroup::r-x\nmask::rwx\nother::---\n\n",
    )
    reading = server.read(Plan(name="keelson"), copied)
    assert reading.unknown == ()
    plan, _ = apply(Plan(name="keelson"), reading.edits)
    assert {user.name: user.uid for user in plan.users.values()} == {"ann": 1001, "svc-scan": 972}
    assert {group.name: group.gid for group in plan.groups.values()} == {"crew": 1001, "www-data": 33}
    assert [share.name for share in plan.shares.values()] == ["work"]
    higher, _ = apply(Plan(name="keelson"), server.read(Plan(name="keelson"), copied, lowest=2000).edits)
    assert {user.name for user in higher.users.values()} == {"ann", "svc-scan"}, (
        "a share lets them in, whatever their numbers"
    )


def test_a_server_that_is_taken_in_keeps_its_shares_as_they_are() -> None:
    """A new plan would have groups of a share's own for people; the shares of a server that is there name whom they name."""
    conf = "[a]\n path = /srv/a\n valid users = ann\n"
    copied = server.Copied(passwd=ACCOUNTS, group=GROUPS, smb={"smb.conf": conf}, exports="", listing=LISTS)
    begun = new_plan()
    assert begun.target.share_groups
    plan, _ = apply(begun, server.read(begun, copied).edits)
    assert plan.shares
    assert not plan.target.share_groups
    chosen = replace(plan, target=replace(plan.target, share_groups=True))  # by somebody, since
    more = replace(copied, smb={"smb.conf": conf.replace("[a]", "[b]")})
    again, _ = apply(chosen, server.read(chosen, more).edits)
    assert len(again.shares) == 2
    assert again.target.share_groups
