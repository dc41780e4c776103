"""A member server of the test domain: winbind and an SMB server, in namespaces of its own; one line of JSON in, one out."""

import json
import subprocess
import sys
from pathlib import Path

sys.path.append(str(Path(__file__).parent))
import nfs_service
from namespaces import ADMIN, DNS, PASSWORD, SHORT, answers, namespace, run

CONF = """[global]
 workgroup = {short}
 realm = {realm}
 netbios name = NAS1
 security = ADS
 server role = member server
 kerberos method = secrets and keytab
 disable netbios = yes
 smb ports = 445
 interfaces = lo yard1
 bind interfaces only = yes
 private dir = {top}/private
 passdb backend = tdbsam:{top}/private/passdb.tdb
 state directory = {top}/var
 cache directory = {top}/cache
 lock directory = {top}/run
 pid directory = {top}/run
 ncalrpc dir = {top}/run/ncalrpc
 log file = {top}/log/log.%m
 load printers = no
 disable spoolss = yes
 idmap config * : backend = tdb
 idmap config * : range = 3000-7999
 idmap config {short} : backend = rid
 idmap config {short} : range = 100000-199999
 winbind use default domain = no
 template shell = /bin/false
 map to guest = Bad User
 guest account = nobody
[quay]
 path = {top}/quay
 read only = no
 inherit permissions = yes
 map archive = no
"""


def own(top: Path) -> None:
    """Its own /etc, /srv and what the NFS server keeps, in this namespace only."""
    for inner, over in (("host-etc", "/etc"), ("nfs", "/var/lib/nfs"), ("srv", "/srv")):
        (top / inner).mkdir()
        if inner != "srv":
            run("cp", "--archive", "--no-target-directory", over, str(top / inner))
        run("mount", "--bind", str(top / inner), over)
    nfs_service.install()


def join(top: Path) -> None:
    own(top)
    namespace(top, "nas1")
    sys.stdin.readline()  # the wire to the controller is there now
    run("ip", "addr", "add", "10.99.0.2/24", "dev", "yard1")
    run("ip", "link", "set", "yard1", "up")
    local = {"passwd": "u01:x:5001:5001::/nonexistent:/bin/false\n", "group": "u01:x:5001:\n"}
    for name, line in local.items():  # an account that also the domain has
        with Path("/etc", name).open("a") as file:
            file.write(line)
    (top / "etc" / "smb.conf").write_text(CONF.format(short=SHORT, realm=DNS.upper(), top=top))
    (top / "quay").mkdir()
    run("net", "ads", "join", "-U", f"Administrator%{ADMIN}")
    run("smbpasswd", "-s", "-a", "u01", input=f"{PASSWORD}\n{PASSWORD}\n")
    log = open(top / "log" / "spawn.log", "ab")  # noqa: SIM115
    for daemon in ("winbindd", "smbd"):
        subprocess.Popen(
            [daemon, "--foreground", "--no-process-group"],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
    answers("127.0.0.1", 445)
    for _ in range(200):
        if subprocess.run(["wbinfo", "--ping-dc"], capture_output=True).returncode == 0:
            return
    raise SystemExit("winbindd does not find the controller")


def numbers(sids: list[str]) -> list[int | None]:
    """What winbind gives each SID, asked one by one."""
    found = []
    for sid in sids:
        done = subprocess.run(["wbinfo", f"--sid-to-uid={sid}"], capture_output=True, text=True)
        if done.returncode:
            done = subprocess.run(["wbinfo", f"--sid-to-gid={sid}"], capture_output=True, text=True)
        found.append(int(done.stdout) if done.returncode == 0 else None)
    return found


def lay_out(top: Path, folders: list[str], restore: str) -> None:
    """Make folders below the share, give them their owners and lists as setfacl --restore reads them, and a file in each."""
    for folder in folders:
        (top / folder).mkdir(parents=True, exist_ok=True)
    run("setfacl", "--restore=-", input=restore, cwd=top)
    for folder in folders:
        (top / folder / "file").write_text("kept")


def tried(user: str, folders: list[str]) -> list[list[bool]]:
    """Of each folder below the share: may this account list it, read the file in it, put a new one there."""
    mine = user.replace("\\", "-")
    commands = []
    for folder in folders:
        inner = folder.partition("/")[2]
        inside = inner + "/" if inner else ""
        commands.append([f'ls "{inside}*"', f'get "{inside}file" /dev/null', f'put /etc/hostname "{inside}by-{mine}"'])
    said = "; ".join(f"{part}; then" for three in commands for part in three)
    done = subprocess.run(
        ["smbclient", "//127.0.0.1/quay", "-U", f"{user}%{PASSWORD}", "--use-kerberos=off", "-c", said],
        capture_output=True,
        text=True,
    )
    # There is no command of that name: what smbclient says to it stands between the answers.
    answers = done.stdout.split("then: command not found")[:-1] or ["NT_STATUS"] * (3 * len(folders))
    good = ["NT_STATUS" not in answer for answer in answers]
    return [good[at : at + 3] for at in range(0, len(good), 3)]


def ran(argv: list[str], given: str) -> tuple[int, str, str]:
    """Run a command of a rollout."""
    done = subprocess.run(argv, input=given, capture_output=True, text=True, errors="surrogateescape")
    return done.returncode, done.stdout, done.stderr


def main() -> None:
    top = Path(sys.argv[1])
    join(top)
    print(json.dumps("ready"), flush=True)
    work = {"numbers": numbers, "lay_out": lambda *given: lay_out(top, *given), "tried": tried, "ran": ran}
    for line in sys.stdin:
        what, *given = json.loads(line)
        try:
            print(json.dumps({"done": work[what](*given)}), flush=True)
        except BaseException as error:  # told to the test, which fails with it
            print(json.dumps({"trouble": f"{type(error).__name__}: {error}"}), flush=True)


main()
