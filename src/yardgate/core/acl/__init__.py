"""Permission lists of three styles: what they are, what they give somebody, and what they hand down."""

from yardgate.core.acl.mode import Mode
from yardgate.core.acl.nfs4 import Entry, Ordered
from yardgate.core.acl.posix import Posix, PosixEntry

OwnList = Ordered | Posix | Mode

__all__ = ["Entry", "Mode", "Ordered", "OwnList", "Posix", "PosixEntry"]
