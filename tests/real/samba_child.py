"""Asks the SMB server's own access check: reads one JSON task a line, writes the masks granted, one JSON list a line.

Runs under the system's Python, where the SMB server's module lives. A task: a descriptor in SDDL, and lists of SIDs, one for
each token.
"""

import json
import sys

from samba import security as check
from samba.dcerpc import security

DOMAIN = security.dom_sid("S-1-5-21-1-2-3")
MAXIMUM_ALLOWED = 0x02000000


def token(sids: list[str]) -> security.token:
    made = security.token()
    made.sids = [security.dom_sid(sid) for sid in sids]
    made.num_sids = len(sids)
    return made


for line in sys.stdin:
    task = json.loads(line)
    tokens = [token(sids) for sids in task["tokens"]]
    answer = []
    for sddl in task["descriptors"]:
        descriptor = security.descriptor.from_sddl(sddl, DOMAIN)
        for one in tokens:
            try:
                answer.append(check.access_check(descriptor, one, MAXIMUM_ALLOWED))
            except Exception:  # NT_STATUS_ACCESS_DENIED: nothing at all is granted
                answer.append(0)
    sys.stdout.write(json.dumps(answer) + "\n")
    sys.stdout.flush()
