"""File servers as small offices really set them up, made up: accounts, folders and shares, as a script and a configuration."""

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class Office:
    """name: of the office. people: sign-in name -> number, of accounts that the SMB server has. script: what makes the rest as root; it
    begins in /srv. conf: shares, and settings of [global] before them. more: files beside it. tops: folders of which lists are read."""

    name: str
    people: dict[str, int]
    script: str
    conf: str
    more: dict[str, str]
    tops: tuple[str, ...] = ("/srv",)


LAW = Office(
    name="Tarn and Holloway, solicitors",
    people={"ida": 1201, "ruben": 1202, "maud": 1203, "otis": 1204, "tess": 1205, "vera": 1206},
    script="""
groupadd -r -g 415 partners; groupadd -r -g 416 clerks; groupadd -g 1310 case_workers
sed -i 's/^case_workers:/case workers:/' /etc/group
gpasswd -M ida,ruben partners; gpasswd -M maud,otis,tess clerks; gpasswd -M maud,vera staff
sed -i 's/^case workers:x:1310:/case workers:x:1310:tess,ida/' /etc/group
usermod -a -G adm ida
mkdir -p matters/open matters/closed matters/precedents templates accounts inbox archive/2019 "letters out" website keep
chown ida:partners matters; chmod 2770 matters
setfacl -m g:clerks:r-x,d:g::rwx,d:g:clerks:rwx,d:o::--- matters
chown ida:partners matters/open; chmod 2770 matters/open; setfacl -m 'g:clerks:rwx,d:g::rwx,d:g:clerks:rwx,d:o::---' matters/open
chown ruben:partners matters/closed; chmod 2750 matters/closed; setfacl -m u:root:rwx,u:vera:r-x,g:root:r-x matters/closed
chown maud:maud matters/precedents; chmod 755 matters/precedents
chown root:staff templates; chmod 2775 templates
chown root:partners accounts; chmod 2770 accounts; setfacl -m 'u:maud:rwx,u:1077:r-x' accounts
chown nobody:nogroup inbox; chmod 2777 inbox
chown 1077:clerks archive archive/2019; chmod 2755 archive archive/2019
chown root:1310 "letters out"; chmod 2770 "letters out"
chown www-data:www-data website; chmod 2775 website; setfacl -m g:partners:rwx website
chown root:users keep; chmod 3777 keep
""",
    conf="""
 guest account = nobody
 invalid users = root
 load printers = no
[matters]
   comment = Matters, by client
   path = /srv/matters
   valid users = @partners, @clerks, vera
   read only = no
   force group = partners
   create mask = 0660
   directory mask = 2770
[Precedents]
   path = /srv/matters/precedents
   Valid Users = @partners +clerks
   writeable = yes
   write list = maud
   hide unreadable = yes
[templates]
   path = /srv/templates
   public = no
   write list = @staff
   guest ok = yes
[templates (fixed)]
   path = /srv/templates
   read only = yes
[accounts]
   path = /srv/accounts
   valid users = @partners maud
   invalid users = ruben
   writable = yes
   browseable = no
   admin users = ida
   inherit permissions = yes
[inbox]
   path = /srv/inbox
   guest only = yes
   read only = no
[archive]
   path = /srv/archive
   valid users = @partners @clerks @staff
   write list = otis
[letters]
   path = "/srv/letters out"
   valid users = @"case workers"
   read only = no
   inherit permissions = yes
[website]
   path = /srv/website/
   force user = www-data
   valid users = @partners, @"staff"
   read list = @staff
   read only = no
[keep]
   path = /srv/./keep
   valid users = @users
   read only = No
   create mask = 0664
   include = /etc/samba/keep-%m.conf
[printers]
   printable = yes
   path = /var/spool/samba
[homes]
   browseable = no
   read only = no
""",
    more={},
)

STUDIO = Office(
    name="Heron Lane, a studio",
    people={"bea": 1001, "cato": 1002, "dina": 1003, "eddy": 1004, "fay": 1005, "scanbox": 951},
    script="""
groupadd -g 1500 film; groupadd -g 1501 sound; groupadd -g 1502 editors; useradd -M -u 1600 -g film studio
gpasswd -M bea,cato film; gpasswd -M dina,eddy,cato sound; gpasswd -M bea,eddy editors
for u in bea cato dina eddy; do usermod -g users $u; done
mkdir -p projects/heron projects/otter projects/private library scans dropbox web outgoing/public outgoing/clients "café" reels
chown studio:film projects projects/heron; chmod 2775 projects; chmod 2770 projects/heron
chown studio:sound projects/otter; chmod 2750 projects/otter
chown bea:bea projects/private; chmod 700 projects/private
chown root:film library; chmod 2775 library; setfacl -m g:sound:r-x,g:editors:rwx,d:g:film:rwx,d:g:editors:rwx,d:g:sound:r-x library
chown scanbox:users scans; chmod 2770 scans
chown nobody:nogroup dropbox; chmod 2770 dropbox
chown www-data:www-data web; chmod 2770 web
chown -R root:users outgoing; chmod -R 2775 outgoing; chmod 2757 outgoing/clients
chown studio:film "café"; chmod 2775 "café"
chown 1888:1999 reels; chmod 2755 reels
mkdir "projects/Odd" "projects/odd" "library/trailing " "$(printf 'library/mark\\342\\200\\217')"
touch "$(printf 'library/Icon\\r')" "$(printf 'library/latin\\351')" "library/two
lines"
chmod 777 "projects/Odd" "projects/odd"
""",
    conf="""
 guest account = nobody
 create mask = 0664
 directory mask = 2775
 vfs objects = catia fruit streams_xattr
 veto files = /.DS_Store/._*/
[template]
   available = no
   writable = yes
   valid users = @film @sound
   include = /etc/samba/template.conf
[projects]
   copy = template
   path = /srv/projects
   available = yes
   force user = studio
   admin users = bea
[projects-read]
   path = /srv/projects
   valid users = @film, @sound
   force user = studio
   vfs object = readonly
   read only = no
[library]
   PATH = /srv/library
   ValidUsers = @film,@sound,@editors
   ReadList = @sound
   WriteAble = TRUE
   inherit acls = yes
[scans]
   path=/srv/scans
   valid users = scanbox @users
   read only = no
   inherit permissions = Yes
[dropbox]
   path = /srv/dropbox
   guest ok = yes
   force user = nobody
   read only = no
[web]
   path = /srv/web
   force user = www-data
   force group = www-data
   read only = no
   valid users = bea dina
[public]
   path = /srv/outgoing/public
   guest ok = yes
   write list = +editors
[clients]
   path = /srv/outgoing/clients
   public = yes
   writeable = yes
   invalid users = fay
[Café]
   path = /srv/café
   valid users = %U
   read only = no
[reels]
   path = /srv/reels
   valid users = S-1-5-11
   read only = no
[gone]
   path = /srv/not-there
   guest ok = yes
""",
    more={"/etc/samba/template.conf": "hide unreadable = yes\nbrowsable = yes\n"},
)

CHARITY = Office(
    name="Millrace Trust, a charity",
    people={"gil": 2001, "hope": 2002, "ivo": 2003, "jana": 2004, "kit": 2005},
    script="""
groupadd -g 3001 trustees; groupadd -g 3002 Volunteers; groupadd -g 3003 helpers; groupadd -r -g 450 finance
gpasswd -M gil,hope trustees; gpasswd -M ivo,jana,kit Volunteers; gpasswd -M ivo helpers; gpasswd -M hope,jana finance
printf 'helpers:x:3003:kit\\n+::::\\n# an old remark\\n' >> /etc/group; printf '+nisuser::::::\\n' >> /etc/passwd
printf 'broken line\\n' >> /etc/passwd
mkdir -p board money casework/north casework/south shop events old shared
chown gil:trustees board; chmod 2770 board
chown root:finance money; chmod 2770 money; setfacl -m u:gil:r-x,d:u:gil:r-x,d:g::rwx,d:o::--- money
chown root:Volunteers casework; chmod 2750 casework
chown ivo:helpers casework/north; chmod 2770 casework/north
chown kit:helpers casework/south; chmod 2770 casework/south; setfacl -m u:jana:rwx casework/south
chown root:root shop; chmod 1777 shop
chown hope:games events; chmod 2775 events
chown sync:4567 old; chmod 755 old
chown root:users shared; chmod 2770 shared; setfacl -m g:trustees:rwx,g:Volunteers:r-x shared
""",
    conf="""
 map to guest = Bad User
 hosts allow = 127. 192.0.2.
 usershare max shares = 100
[Board]
   path = /srv/board
   valid users = @trustees
   read only = no
   create mask = 0660
[money]
   path = /srv/money
   valid users = +finance, gil
   read only = no
   inherit permissions = yes
[casework]
   path = /srv/casework
   valid users = @volunteers
   read only = no
[casework2]
   path = /srv/casework
   valid users = @Volunteers @trustees
   read only = no
   inherit permissions = yes
[north]
   path = /srv/casework/north
   valid users = @helpers
   write list = @helpers
[shop]
   path = /srv/shop
   guest ok = yes
   read only = no
[events]
   path = /srv/events
   valid users = @"Unix Group\\Volunteers" "Unix User\\hope" &trustees
   force group = +games
   read only = no
[old]
   path = /srv/old
   writable = yes
[shared]
   path = /srv/shared
   valid users = @trustees @Volunteers @users
   read list = @Volunteers
   write list = ghost hope
   writable = yes
   store dos attributes = no
   strict locking = no
   max connections = 40
[sealed]
   path = /srv/board
   valid users = @trustees
   read only = yes
   browseable = no
[described]
   path = /srv/shop
   read only = no
""",
    more={},
)

PRACTICE = Office(
    name="Saltmarsh, a surgery in a domain",
    people={"ada": 1301, "scanner": 971, "lena": 1303},
    script=r"""
groupadd -g 1600 lab; groupadd -g 1601 Doctors
smbclient //127.0.0.1/quay -U 'LANTERNQUAY\bram%Lantern-7-Quay' --use-kerberos=off -c exit  # the server makes its own groups then
getent group 'BUILTIN\users' > /dev/null
sed -i 's/^lab:.*/lab:x:1600:lena,LANTERNQUAY\\cora/; s/^Doctors:.*/Doctors:x:1601:lena/' /etc/group
mkdir -p patients/doctors patients/letters desk billing scans rota forms old lab everyone notices
chown 'LANTERNQUAY\ada:LANTERNQUAY\doctors' patients; chmod 2770 patients
setfacl -m 'g:LANTERNQUAY\clinic:r-x,d:g::rwx,d:g:LANTERNQUAY\clinic:rwx,d:o::---' patients
chown 'LANTERNQUAY\bram:LANTERNQUAY\doctors' patients/doctors; chmod 2770 patients/doctors
chown 'root:LANTERNQUAY\domain users' patients/letters; chmod 2770 patients/letters; setfacl -m 'u:LANTERNQUAY\dirk:r-x,u:ada:rwx,u:178001:rwx' patients/letters
chown 'LANTERNQUAY\edda:LANTERNQUAY\front desk' desk; chmod 2775 desk
chown 'root:LANTERNQUAY\billing' billing; chmod 2770 billing
chown 'scanner:LANTERNQUAY\domain users' scans; chmod 2770 scans; setfacl -m g:BUILTIN\\users:r-x scans
chown root:lab rota; chmod 2775 rota
chown 'ada:ada' forms; chmod 700 forms
chown '178001:LANTERNQUAY\nurses' old; chmod 2750 old
chown lena:lab lab; chmod 2770 lab; setfacl -m 'g:Doctors:r-x,g:LANTERNQUAY\doctors:rwx' lab
chown 'root:LANTERNQUAY\domain users' everyone; chmod 2770 everyone
chown 'root:LANTERNQUAY\doctors' notices; chmod 2777 notices
""",
    conf=r"""
[patients]
   path = /srv/patients
   valid users = @"LANTERNQUAY\Clinic"
   read only = no
   inherit permissions = yes
[desk]
   path = /srv/desk
   valid users = +"LANTERNQUAY\front desk", LANTERNQUAY\ada
   write list = @"LANTERNQUAY\Front Desk"
[billing]
   path = /srv/billing
   valid users = @LANTERNQUAY\billing lena
   admin users = LANTERNQUAY\bram
   writable = yes
[scans]
   path = /srv/scans
   valid users = scanner, @"LANTERNQUAY\domain users"
   read only = no
   force group = "LANTERNQUAY\front desk"
[rota]
   path = /srv/rota
   guest ok = yes
   write list = @lab
[forms]
   path = /srv/forms
   valid users = ada
   read only = no
[old]
   path = /srv/old
   valid users = LANTERNQUAY\nurses LANTERNQUAY\gone "LANTERNQUAY\Domain Admins"
   read only = no
[lab]
   path = /srv/lab
   valid users = @lab @Doctors
   read only = no
   inherit permissions = yes
[everyone]
   path = /srv/everyone
   read only = no
   inherit permissions = yes
[plain]
   path = /srv/notices
   valid users = @nurses, dirk
   read only = no
   inherit permissions = yes
[by mail]
   path = /srv/notices
   valid users = cora@lanternquay.example dirk@nowhere.example
   read only = no
   inherit permissions = yes
[backup]
   path = /srv/notices
   valid users = LANTERNQUAY.EXAMPLE\edda +LANTERNQUAY.EXAMPLE\Nurses
   read only = no
   inherit permissions = yes
""",
    more={},
)
"""On a member server of the domain in which `DOMAIN` is made; ada is somebody else there."""
DOMAIN: list[list[str]] = [
    *(["user", name, f"{name.title()} of the surgery"] for name in ("ada", "bram", "cora", "dirk", "edda", "finn")),
    *(["group", name, "", *more] for name, *more in (["Doctors"], ["Nurses"], ["Front Desk"], ["Clinic"], ["Billing"])),
    ["join", "Doctors", "ada", "bram"], ["join", "Nurses", "cora", "finn"], ["join", "Front Desk", "edda"],
    ["join", "Clinic", "Doctors", "Nurses"], ["join", "Billing", "bram", "edda"], ["disable", "finn"],
]  # fmt: skip
PLAIN = r"""
sed -i 's/LANTERNQUAY.cora/cora/' /etc/group
userdel ada; smbpasswd -x ada; userdel newcomer; smbpasswd -x newcomer; chown -R root:root /srv/forms
sed -i 's/winbind use default domain = no/winbind use default domain = yes/' /etc/samba/smb.conf
smbcontrol winbindd reload-config; smbcontrol smbd reload-config; net cache flush; sleep 1
"""
"""Has the server take plain names for the domain's."""
KEPT = "for f in passwd group shadow gshadow samba/smb.conf; do cp -p /etc/$f /etc/$f.before; done"
AS_BEFORE = """
for u in ada lena scanner newcomer; do smbpasswd -x $u; done; rm -rf /srv/*
for f in passwd group shadow gshadow samba/smb.conf; do mv /etc/$f.before /etc/$f; done
smbcontrol winbindd reload-config; smbcontrol smbd reload-config; net cache flush; sleep 1
"""
"""Gives the server back to the other tests, as it was when `KEPT` ran."""

OFFICES = (LAW, STUDIO, CHARITY)
