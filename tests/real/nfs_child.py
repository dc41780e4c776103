"""A real NFS server and a client that claims any numbers: reads one JSON task, prints what each client could do.

Runs as root in network, mount and process namespaces of its own, started with unshare(1) by `test_nfs`. The server is the
kernel's own in User-Mode Linux, since the host's kernel may have none, or nfs-ganesha here. Each client's address is one that
the server reaches by an address of its own, so that a route chooses what the client comes from.
"""

import ctypes
import errno
import json
import os
import select
import struct
import subprocess
import sys
import time
from pathlib import Path

sys.path.append(str(Path(__file__).parent))
sys.path.append(str(Path(__file__).parents[2] / "src/yardgate/drivers/linux"))  # of what runs on hosts by itself

import nfs_visit
from nfs_client import Client
from nfs_lists import listed

REFUSED = {errno.EACCES, errno.EPERM, errno.EROFS, errno.ENOENT}
PATIENCE = 90  # seconds
# A filter of system calls (seccomp(2)): PTRACE_GETREGSET of NT_X86_XSTATE answers EINVAL, all else passes. User-Mode Linux
# then keeps registers the older way; it has no room for what a processor with AMX would hand it, and dies of that.
NO_XSTATE = (
    (0x20, 0, 0, 0), (0x15, 0, 5, 101), (0x20, 0, 0, 16), (0x15, 0, 3, 0x4204), (0x20, 0, 0, 32), (0x15, 0, 1, 0x202),
    (0x06, 0, 0, 0x00050000 | errno.EINVAL), (0x06, 0, 0, 0x7FFF0000),
)  # fmt: skip
# And then programs in it must do without the registers that it does not keep; this becomes the environment of init.
PLAIN_REGISTERS = "GLIBC_TUNABLES=glibc.cpu.hwcaps=" + ",".join(
    f"-{name}"
    for name in ("AVX", "AVX2", "AVX512F", "AVX512VL", "AVX512BW", "AVX512DQ", "AVX512CD", "FMA", "BMI2", "XSAVEC")
)
FILES = {
    "nsswitch.conf": "passwd: files\ngroup: files\nhosts: files\nservices: files\nprotocols: files\nrpc: files\nnetgroup: files\n",
    "nfs.conf": "[exports]\nrootdir=/mnt/exports\n",
}
INIT = """#!/bin/bash
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
mount -t proc proc /proc; mount -t sysfs sys /sys; stty -echo -onlcr
mount -t tmpfs -o mode=755 tmpfs /run; mkdir -p /run/rpcbind
mount --bind {top}/etc /etc
mount -t tmpfs tmpfs /var/lib/nfs; mkdir -p /var/lib/nfs/v4recovery; touch /var/lib/nfs/etab /var/lib/nfs/rmtab
echo {top}/modprobe > /proc/sys/kernel/modprobe
ip link set lo up; ip link set vec0 up
{addresses}
{top}/modprobe -a nfsd nfsv3 nfsv4
mount -t tmpfs tmpfs /mnt; mkdir -p /mnt/exports; mount -t ext4 /dev/ubda /mnt/exports
mount -t nfsd nfsd /proc/fs/nfsd
rpcbind; rpc.mountd -p 20048; exportfs -ra; rpc.nfsd -p 2049 4; echo Y > /proc/fs/nfsd/v4_end_grace
echo READY
read -r line
echo o > /proc/sysrq-trigger; sleep 30
"""


def run(*command: str) -> None:
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(f"{' '.join(command)}: {done.stdout}{done.stderr}")


def reached(number: int) -> str:
    """The server's own address for the client of this number."""
    return f"10.98.0.{number + 1}"


def prepare(top: Path, task: dict) -> None:
    etc = top / "etc"
    etc.mkdir()
    for name in ("passwd", "group", "services", "protocols", "rpc", "netconfig"):
        if Path("/etc", name).exists():
            (etc / name).write_bytes(Path("/etc", name).read_bytes())
    names = "".join(f"{address} {name}\n" for address, name in task["hosts"].items() if name)
    for name, text in {**FILES, "hosts": "127.0.0.1 localhost\n" + names, "exports": task["exports"]}.items():
        (etc / name).write_text(text)
    (etc / "exports.d").mkdir()
    (etc / "mtab").symlink_to("/proc/self/mounts")


def without_xstate() -> None:
    """For the process that becomes User-Mode Linux."""
    program = b"".join(struct.pack("=HBBI", *line) for line in NO_XSTATE)
    kept = ctypes.create_string_buffer(program)
    filtered = ctypes.create_string_buffer(struct.pack("@HP", len(NO_XSTATE), ctypes.addressof(kept)))
    libc = ctypes.CDLL(None, use_errno=True)
    libc.prctl.argtypes = [ctypes.c_int, *[ctypes.c_ulong] * 4]
    if libc.prctl(38, 1, 0, 0, 0) or libc.prctl(
        22, 2, ctypes.addressof(filtered), 0, 0
    ):  # no new privileges; the filter
        raise OSError(ctypes.get_errno(), "the filter of system calls is refused")


def inside(top: Path, task: dict) -> subprocess.Popen:
    """The kernel's server, in a kernel of its own, its disk made of the folder `tree`."""
    run("ip", "tuntap", "add", "dev", "quay0", "mode", "tap")
    run("ip", "link", "set", "quay0", "up")
    for number, address in enumerate(task["hosts"]):
        run("ip", "addr", "add", f"{address}/32", "dev", "quay0")
        run("ip", "route", "add", reached(number), "dev", "quay0", "src", address)
    disk = top / "disk"
    run("truncate", "-s", "1G", str(disk))
    run("mke2fs", "-q", "-F", "-t", "ext4", "-i", "4096", "-d", str(top / "tree"), str(disk))
    modules = top / "modules"
    (modules / "lib").mkdir(parents=True)
    (modules / "lib/modules").symlink_to("/usr/lib/uml/modules")
    (top / "modprobe").write_text(f'#!/bin/sh\nexec /sbin/modprobe -d {modules} "$@"\n')
    own = "\n".join(f"ip addr add {reached(n)}/32 dev vec0" for n in range(len(task["hosts"])))
    back = "\n".join(f"ip route add {address} dev vec0 src {reached(n)}" for n, address in enumerate(task["hosts"]))
    (top / "init").write_text(INIT.format(top=top, addresses=f"{own}\n{back}"))
    for name in ("modprobe", "init"):
        (top / name).chmod(0o755)
    (top / "home").mkdir()
    large = " amx_tile" in Path("/proc/cpuinfo").read_text()
    return started(
        top,
        ["/usr/bin/linux.uml", *([PLAIN_REGISTERS] if large else []), "mem=512M", "rootfstype=hostfs", "rootflags=/", "ro", "quiet", f"init={top}/init",
         "con0=fd:0,fd:1", f"ubda={disk}", "vec0:transport=tap,ifname=quay0,depth=64,mac=02:00:0a:62:00:01"],
        "READY",
        without_xstate if large else None,
    )  # fmt: skip


def beside(top: Path, task: dict) -> subprocess.Popen:
    """nfs-ganesha, on the folder itself."""
    run("ip", "link", "set", "lo", "up")
    for number, address in enumerate(task["hosts"]):
        run("ip", "addr", "add", f"{address}/32", "dev", "lo")
        run("ip", "addr", "add", f"{reached(number)}/32", "dev", "lo")
        run("ip", "route", "replace", "local", reached(number), "dev", "lo", "src", address, "table", "local")
    run("mount", "-t", "tmpfs", "-o", "mode=755", "tmpfs", "/run")
    for name in ("rpcbind", "ganesha"):
        Path("/run", name).mkdir()
    run("mount", "--bind", str(top / "etc"), "/etc")
    subprocess.Popen(["rpcbind", "-f"])
    until(Path("/run/rpcbind.sock").exists, "rpcbind does not answer")
    (top / "recovery").mkdir()
    return started(top, ["ganesha.nfsd", "-F", "-f", "/etc/exports", "-L", "STDOUT", "-p", "/run/g.pid", "-N", "NIV_EVENT"], "NFS SERVER INITIALIZED")  # fmt: skip


def until(met, else_: str) -> None:
    end = time.monotonic() + PATIENCE
    while not met():
        if time.monotonic() > end:
            raise SystemExit(else_)
        time.sleep(0.02)


def started(top: Path, command: list[str], ready: str, first=None) -> subprocess.Popen:
    """A server that has said that it is ready; what it says goes into a file from then on."""
    said = b""
    server = subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        env=dict(os.environ, HOME=str(top / "home")), preexec_fn=first,
    )  # fmt: skip

    def met() -> bool:
        nonlocal said
        if select.select([server.stdout], [], [], 0)[0]:
            said += os.read(server.stdout.fileno(), 65536)
        if server.poll() is not None:
            raise SystemExit(f"the server ended:\n{said.decode(errors='replace')[-3000:]}")
        return ready.encode() in said

    try:
        until(met, "")
    except SystemExit as error:
        raise SystemExit(f"{error}\n{said.decode(errors='replace')[-3000:]}") from None
    with (top / "said").open("wb") as rest:
        subprocess.Popen(["cat"], stdin=server.stdout, stdout=rest)
    return server


def tried(act, *given) -> bool:
    try:
        act(*given)
    except OSError as error:
        if error.errno not in REFUSED:
            raise
        return False
    return True


def looked(client: Client, folder: str, me: str) -> dict[str, object]:
    """Everything about one folder with the files `plain` and `doomed-<me>` in it."""
    names: list[str] = []
    tried(lambda: names.extend(client.names(folder or "/")))
    return {
        "names": names,
        "lists": "plain" in names,
        "reads": tried(client.read, f"{folder}/plain"),
        "changes": tried(client.write, f"{folder}/plain"),
        "adds": tried(client.make, f"{folder}/new-{me}"),
        "deletes": tried(client.unlink, f"{folder}/doomed-{me}"),
    }


def visited(ask: dict, addresses: list[str]) -> list[dict[str, object]] | None:
    """What one client finds; None where the server lets it mount nothing."""
    server = reached(addresses.index(ask["address"]))
    end = time.monotonic() + PATIENCE
    while True:
        try:
            client = Client(server, ask["export"], ask["version"], ask["uid"], ask["gid"], ask["gids"])
            client.access()  # version 3 mounts what it is then refused for want of a ticket
            break
        except OSError as error:
            if error.errno == errno.EAGAIN and time.monotonic() < end:  # NFS4ERR_DELAY (RFC 7530 section 13.1.1.3)
                time.sleep(0.1)
                continue
            if error.errno not in REFUSED:
                raise
            return None
    try:
        return [looked(client, folder, ask["me"]) for folder in ask["folders"]]
    finally:
        client.close()


def main() -> None:
    task = json.load(sys.stdin)
    top = Path(task["top"])
    os.umask(0)
    Path("/proc/sys/net/ipv4/tcp_max_tw_buckets").write_text("0")  # thousands of short mounts, from few low ports
    prepare(top, task)
    server = {"kernel": inside, "ganesha": beside}[task["server"]](top, task)
    found, answers, lists, ask = [], [], {}, None
    try:
        if task.get("lists"):
            wire = nfs_visit.Wire(reached(0))
            lists = {path: listed(wire, path) for path in task["lists"]}
        wires = {}
        for ask in task["asks"]:
            if ask["version"] == 4:
                number = list(task["hosts"]).index(ask["address"])
                if number not in wires:
                    wires[number] = nfs_visit.Wire(reached(number), ask["address"])
                claim = (ask["uid"], ask["gid"], ask["gids"])
                answers.append(
                    nfs_visit.found(wires[number], claim, [ask["export"] + folder for folder in ask["folders"]])
                )
            else:
                answers.append(None)
            found.append(visited(ask, list(task["hosts"])))
    except OSError as error:
        raise SystemExit(f"{ask}: {error}\n{(top / 'said').read_text(errors='replace')[-2000:]}") from None
    finally:
        if task["server"] == "kernel":
            server.stdin.write(b"\n")
            server.stdin.flush()
            try:
                server.wait(20)
            except subprocess.TimeoutExpired:
                server.kill()
        else:
            server.terminate()
            server.wait(20)
    print(json.dumps({"found": found, "answers": answers, "lists": lists}))


main()
