"""Account files, listings, LDIF and configurations as they are found, made up, with what comes out of each.

comes: lines that are to stand in what is told of the plan afterwards (`told_of`); not_there: lines that are not. told: words of notes.
"""

from dataclasses import dataclass

from yardgate.formats.importing import ImportKind


@dataclass(frozen=True)
class Case:
    kind: ImportKind
    text: bytes
    second: bytes = b""
    comes: tuple[str, ...] = ()
    not_there: tuple[str, ...] = ()
    told: tuple[str, ...] = ()


PEOPLE = "ann:x:1001:100:Ann Lee,,,:/home/ann:/bin/sh\nbo:x:1002:1002::/home/bo:/bin/sh\n"
GROUPS = "users:x:100:\nbo:x:1002:\ncrew:x:1500:ann,bo\n"
HEAD = "# file: srv\n# owner: ann\n# group: crew\nuser::rwx\ngroup::r-x\nother::---\n\n"


def accounts(passwd: str = PEOPLE, group: str = GROUPS, *comes: str, told: tuple[str, ...] = ()) -> Case:
    return Case("accounts", passwd.encode("latin-1"), group.encode("latin-1"), comes, told=told)


def listed(text: str, *comes: str, told: tuple[str, ...] = (), not_there: tuple[str, ...] = ()) -> Case:
    return Case("getfacl", (HEAD + text).encode("utf-8", "surrogateescape"), b"", comes, not_there, told)


def ordered(text: str, *comes: str, told: tuple[str, ...] = ()) -> Case:
    return Case("nfs4", f"# file: srv\nA:fd:OWNER@:rwaDxtTnNcCoy\n\n{text}".encode(), b"", comes, told=told)


def found(text: str, *comes: str, told: tuple[str, ...] = ()) -> Case:
    return Case("find", f"d 755 root root srv\n{text}".encode(), b"", comes, told=told)


TEXTS: dict[str, Case] = {
    # account files
    "plain accounts": accounts(PEOPLE, GROUPS, "user ann 1001 in users", "group crew 1500: ann bo"),
    "a NIS line in each": accounts(f"{PEOPLE}+::::::\n", f"{GROUPS}+:::\n", "user ann 1001 in users", told=("name service (NIS)",)),
    "a NIS line that leaves out": accounts(f"{PEOPLE}-tom::::::\n", GROUPS, "user bo 1002", told=("name service (NIS)",)),
    "comments and blank lines": accounts(f"# people\n\n{PEOPLE}\n", f"# groups\n{GROUPS}", "group crew 1500: ann bo"),
    "a field missing": accounts(f"{PEOPLE}cy:x:1003:100:Cy:/home/cy\n", GROUPS, "user ann 1001 in users", told=("7 fields between colons; this one has 6",)),
    "a negative number": accounts(f"{PEOPLE}cy:x:-3:100:Cy:/:/bin/sh\n", GROUPS, "user bo 1002", told=("uid “-3” is not a number",)),
    "a case twin": accounts(f"{PEOPLE}ANN:x:1009:100::/:/bin/sh\n", GROUPS, "user ann 1001 in users", told=("account “ANN” stands twice",)),
    "a split group": accounts(PEOPLE, f"{GROUPS}late:x:1600:ann\nlate:x:1600:bo\n", "group late 1600: ann bo", told=("goes on here from line 4",)),
    "a Latin-1 name": accounts("ren\u00e9:x:1001:100:Ren\u00e9 Mar\u00e9chal:/:/bin/sh\n", GROUPS, "user ren\u00e9 1001 in users", told=("this is not UTF-8",)),
    "a primary group that is nowhere": accounts("ann:x:1001:777::/:/bin/sh\n", GROUPS, "user ann 1001", told=("has 777 as primary group",)),
    "a member that is nowhere": accounts(PEOPLE, f"{GROUPS}late:x:1600:zoe,ann\n", "group late 1600: ann", told=("“zoe” of “late” is left out",)),
    "members with blanks and doubled commas": accounts(PEOPLE, "users:x:100:\nlate:x:1600: ann ,, bo\n", "group late 1600: ann bo"),
    "numbers of a directory": accounts(f"{PEOPLE}far:x:1300001:100::/:/bin/sh\n", GROUPS, "user ann 1001 in users", told=("account “far” is left out: outside the numbers 1000 to 60000",)),
    "old numbers below a thousand": accounts(f"{PEOPLE}old:x:501:100::/:/bin/sh\n", GROUPS, "user bo 1002", told=("account “old” is left out",)),
    "a group of Windows line ends": accounts(PEOPLE, GROUPS.replace("\n", "\r\n"), "group crew 1500: ann bo"),
    "a full name of blanks": accounts("ann:x:1001:100:   :/:/bin/sh\n", GROUPS, "user ann 1001 in users"),
    "passwords in the file": accounts("ann:$6$abc:1001:100:Ann:/:/bin/sh\n", GROUPS, "user ann 1001 in users"),
    # listings of POSIX lists
    "a folder inside": listed("# file: srv/a\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/a bo - user:: rwx group:: rwx other:: ---"),
    "an entry for root": listed("# file: srv/a\n# owner: ann\n# group: crew\nuser::rwx\nuser:root:rwx\ngroup::r-x\nmask::rwx\nother::---\n", "place srv/a - - user:: rwx user:root rwx group:: r-x mask:: rwx other:: ---", "user root 0 of the server"),
    "owned by root": listed("# file: srv/a\n# owner: root\n# group: root\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/a root root user:: rwx group:: rwx other:: ---"),
    "a bare number": listed("# file: srv/a\n# owner: 1077\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/a 1077 - user:: rwx group:: rwx other:: ---", "user 1077 1077 of the server", told=("nobody knows the account “1077”",)),
    "www-data": listed("# file: srv/a\n# owner: www-data\n# group: www-data\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/a www-data www-data user:: rwx group:: rwx other:: ---", "group www-data of the server", "user www-data of the server"),
    "somebody of a domain": listed("# file: srv/a\n# owner: OFFICE\\\\ida\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "user OFFICE\\ida of the server"),
    "a group with a blank": listed("# file: srv/a\n# owner: ann\n# group: domain\\040users\nuser::rwx\ngroup::rwx\nother::---\n", "group domain users of the server"),
    "a trailing blank": listed("# file: srv/a \n# owner: ann\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n\n# file: srv/b\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/b bo - user:: rwx group:: rwx other:: ---", told=("a plan can have no such names",)),
    "a line break": listed("# file: srv/a\\012b\n# owner: ann\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv ann crew user:: rwx group:: r-x other:: ---", told=("a plan can have no such names",)),
    "an icon of a Macintosh": listed("# file: srv/Icon\\015\n# owner: ann\n# group: crew\nuser::rw-\ngroup::rw-\nother::---\n", "place srv ann crew user:: rwx group:: r-x other:: ---", told=("a plan can have no such names",)),
    "Latin-1 bytes": listed("# file: srv/caf\udce9\n# owner: ann\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv ann crew user:: rwx group:: r-x other:: ---", told=("a plan can have no such names",)),
    "a direction mark": listed("# file: srv/a\u200fb\n# owner: ann\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv ann crew user:: rwx group:: r-x other:: ---", told=("direction mark",)),
    "a case twin of a folder": listed("# file: srv/Odd\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n\n# file: srv/odd\n# owner: ann\n# group: crew\nuser::rwx\ngroup::---\nother::---\n\n# file: srv/odd/in\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/Odd bo - user:: rwx group:: rwx other:: ---", told=("another has that name but for its case",), not_there=("place srv/odd ann",)),
    "two forms of one accent": listed("# file: srv/caf\u00e9\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n\n# file: srv/cafe\u0301\n# owner: ann\n# group: crew\nuser::rwx\ngroup::---\nother::---\n", "place srv/caf\u00e9 bo - user:: rwx group:: rwx other:: ---", told=("another has that name",)),
    "listed twice": listed(f"# file: srv/a\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n\n{HEAD}", "place srv/a bo - user:: rwx group:: rwx other:: ---", told=("listed before",)),
    "what it complained of": listed("getfacl: srv/x: Permission denied\n# file: srv/a\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/a bo - user:: rwx group:: rwx other:: ---"),
    "an entry that is none": listed("# file: srv/a\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwz\nother::---\n\n# file: srv/b\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv/b bo - user:: rwx group:: rwx other:: ---", told=("permissions are like rwx",)),
    "cut off in the middle": listed("# file: srv/b\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n\n# file: srv/c\n# owner: bo\nuser::r", "place srv/b bo - user:: rwx group:: rwx other:: ---", told=("left out",)),
    "outside of it": listed("# file: etc\n# owner: bo\n# group: crew\nuser::rwx\ngroup::rwx\nother::---\n", "place srv ann crew user:: rwx group:: r-x other:: ---", told=("not below “srv”",)),
    "a user and a group of one name": listed("# file: srv/a\n# owner: tom\n# group: tom\nuser::rwx\nuser:tom:rwx\ngroup::rwx\ngroup:tom:r-x\nmask::rwx\nother::---\n", "user tom of the server", "group tom of the server"),
    # listings of ordered lists
    "an ordered list": ordered("# file: srv/a\nA::OWNER@:rwaDxtTnNcCoy\nA:fdg:crew:rx\n", "place srv/a - - allow owner@, allow crew fd"),
    "commas": ordered("# file: srv/a\nA:fd:OWNER@:rwax, A:fdg:crew:rx,D:fd:bo:w\n", "place srv/a - - allow owner@ fd, allow crew fd, deny bo fd"),
    "tabs and blanks": ordered("# file: srv/a\nA:fd:OWNER@:rwax\tA:fdg:crew:rx D:fd:bo:w\n", "place srv/a - - allow owner@ fd, allow crew fd, deny bo fd"),
    "a domain": ordered("# file: srv/a\nA:fd:bo@quay.example:rx\nA:fdg:crew@quay.example:rx\n", "place srv/a - - allow bo fd, allow crew fd", "domain quay.example"),
    "two domains": ordered("# file: srv/a\nA:fd:bo@quay.example:rx\nA:fd:bo@far.example:rx\nA:fdg:crew@quay.example:rx\n", "place srv/a - - allow bo fd, allow bo@far.example fd, allow crew fd", "user bo@far.example of the server", told=("nobody knows the account “bo@far.example”",)),
    "a name with blanks": ordered("# file: srv/a\nA:fdg:Domain Users@quay.example:rx\n", "group Domain Users of the server"),
    "entries of a log": ordered("# file: srv/a\nA:fd:bo:rx\nU:fdSF:EVERYONE@:w\nL:fdF:EVERYONE@:w\n", "place srv/a - - allow bo fd", told=("2 entries only write a log",)),
    "nothing handed down": ordered("# file: srv/a\nA::bo:rxD\n", "place srv/a - - allow bo", told=("1 folder hands nothing down",)),
    "numbers for names": ordered("# file: srv/a\nA:fd:1001:rx\nA:fdg:1500:rx\n", "place srv/a - - allow ann fd, allow crew fd"),
    "a letter that is no right": ordered("# file: srv/a\nA:fd:bo:rq\n\n# file: srv/b\nA:fd:bo:rx\n", "place srv/b - - allow bo fd", told=("'q' is not a permission",)),
    # listings of mode bits
    "mode bits": found("d 2770 ann crew srv/a\n", "place srv/a ann crew 2770"),
    "files and links between": found("d 750 bo crew srv/a\nl 777 ann crew srv/link\nf 644 ann crew srv/file\ns 755 ann crew srv/socket\n", "place srv/a bo crew 0750"),
    "numbers in mode bits": found("d 750 1001 1500 srv/a\n", "place srv/a ann crew 0750"),
    "blanks in a path": found("d 750 bo crew srv/two words\n", "place srv/two words bo crew 0750"),
    "a record that is none": found("x y\nd 750 bo crew srv/b\n", "place srv/b bo crew 0750", told=("a record is type",)),
    "an odd mode": found("d 9999 bo crew srv/a\nd 750 bo crew srv/b\n", "place srv/b bo crew 0750", told=("not octal",)),
}  # fmt: skip

SEARCH = """# extended LDIF
#
# LDAPv3
# base <dc=quay,dc=example> with scope subtree
# filter: (objectclass=*)
# requesting: ALL
#

# quay.example
dn: dc=quay,dc=example
objectClass: domain
dc: quay

# ida, people, quay.example
dn: uid=ida,ou=people,dc=quay,dc=example
objectClass: inetOrgPerson
objectClass: posixAccount
uid: ida
cn: Ida Ray
sn: Ray
uidNumber: 3001
gidNumber: 3100
homeDirectory: /home/ida

# crew, groups, quay.example
dn: cn=crew,ou=groups,dc=quay,dc=example
objectClass: posixGroup
cn: crew
gidNumber: 3100
memberUid: ida

"""
LDIFS: dict[str, str] = {
    "as a searching program writes it": f"{SEARCH}# search result\nsearch: 2\nresult: 0 Success\n\n# numResponses: 4\n# numEntries: 3\n",
    "with where else to look": f"{SEARCH}# search reference\nref: ldap://far.example/dc=far,dc=example??sub\n\n# search result\nsearch: 2\nresult: 0 Success\n",
    "with the version": f"version: 1\n\n{SEARCH}",
    "with Windows line ends": SEARCH.replace("\n", "\r\n"),
    "with folded lines": SEARCH.replace("cn: Ida Ray", "cn: Ida\n  Ray"),
    "with base64": SEARCH.replace("cn: Ida Ray", "cn:: SWRhIFJheQ=="),
    "with keys of the server": SEARCH.replace(
        "uid: ida\n", "uid: ida\nentryUUID: 0b1c7a62-6d58-4c7f-9a54-0d8a4b1f1f01\n"
    ),
    "with doubled blank lines": SEARCH.replace("\n\n", "\n\n\n"),
}
