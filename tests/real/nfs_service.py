"""An NFS server for the hosts of the tests, in the place of the kernel's, which the machine's kernel may not have: it answers, and has no exports."""

from pathlib import Path

NFS = """#!/bin/sh
### BEGIN INIT INFO
# Provides:          nfs-kernel-server
# Required-Start:    $remote_fs
# Required-Stop:     $remote_fs
# Default-Start:     2 3 4 5
# Default-Stop:      0 1 6
### END INIT INFO
case $1 in
  start)
    mkdir -p /run/samba/nfs
    printf 'NFS_CORE_PARAM { Protocols = 4; Enable_RQUOTA = false; Enable_NLM = false; NFS_Port = 2049; }\n' > /run/samba/nfs/conf
    printf 'NFSv4 { Graceless = true; RecoveryRoot = /run/samba/nfs; }\n' >> /run/samba/nfs/conf
    ganesha.nfsd -f /run/samba/nfs/conf -L /run/samba/nfs/log -p /run/samba/nfs/pid
    for _ in $(seq 400); do ss -Hltn 'sport = :2049' | grep -q . && exit 0; sleep 0.05; done; exit 1 ;;
  stop) kill "$(cat /run/samba/nfs/pid)"; while kill -0 "$(cat /run/samba/nfs/pid)" 2> /dev/null; do sleep 0.05; done ;;
esac
"""


def install() -> None:
    """Let the host's own service be this one, in a namespace with an /etc of its own."""
    Path("/etc/init.d/nfs-kernel-server").write_text(NFS)
