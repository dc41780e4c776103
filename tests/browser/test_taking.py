"""A file server taken in from files copied from it, in the browser."""

from pathlib import Path

from tests.browser.conftest import Page, Yard
from yardgate.core.acl.rights import Level

FILES = {
    "passwd": "root:x:0:0:root:/root:/bin/sh\nosk:x:1501:1501:Oskar Berg:/:/bin/false\nmin:x:1502:1501:Mina Roth:/:/bin/false\n",
    "group": "root:x:0:\ncrew:x:1501:\nlofts:x:1502:min\n",
    "smb.conf": """[global]
   workgroup = SLIPWAY
   include = /etc/samba/shares.conf
   include = /etc/samba/%m.conf
# the rest stands beside it
""",
    "shares.conf": """
[ Sail  loft ]
    Path = /srv/loft
    ; public = yes
    valid users = @crew, +lofts
    write list = "min"
    force group = lofts
[homes]
    read only = no
""",
    "exports": "/srv/loft 192.0.2.0/24(rw,sync) (ro)\n",
    "lists.txt": """# file: /srv/loft
# owner: osk
# group: lofts
user::rwx
group::rwx
other::r-x

""",
}


def written(folder: Path) -> list[Path]:
    paths = []
    for name, text in FILES.items():
        (folder / name).write_text(text)
        paths.append(folder / name)
    return paths


def test_files_of_a_server_become_accounts_places_and_shares(yard: Yard, page: Page, tmp_path: Path) -> None:
    page.go(yard.at("people"))
    page.button("Import").click()
    page.until(lambda: next(o for o in page.all(".ant-segmented-item") if o.text == "File server").click() or True)
    page.one("[aria-label='Files of the server']").send_keys("\n".join(map(str, written(tmp_path))))
    page.button("Preview").click()
    page.says("It would make")
    page.says("Somebody may get more than the plan will say")
    page.says("[homes] offers everybody their own home; not imported")
    page.says("depends on who connects; not imported")
    page.says("so this is for every host")
    assert page.trouble() == []
    page.button("Import", ".ant-drawer").click()
    page.until(lambda: any(share.name == "Sail loft" for share in yard.now().shares.values()))
    plan = yard.now()
    share = next(share for share in plan.shares.values() if share.name == "Sail loft")
    named = {plan.named(who): level for who, level in plan.grants[share.place].items()}
    assert named == {"crew": Level.RO, "lofts": Level.RO, "Mina Roth": Level.RW}
    assert share.nfs
    assert plan.named(share.acts_as_group or "") == "lofts"
    assert {rule.hosts: rule.level for rule in share.hosts} == {"192.0.2.0/24": Level.RW, "*": Level.RO}
    assert page.errors() == []
