"""Memory of the C library's: few arenas for all threads, and what lies free is given back (mallopt(3), malloc_trim(3)). Elsewhere nothing is done."""

import ctypes
from contextlib import suppress

ARENA_MAX = -8  # M_ARENA_MAX of malloc.h
ARENAS = 2


def share_arenas() -> None:
    """What one thread gave back is used by the others; to be called before there are any."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(ARENA_MAX, ARENAS)


def give_back() -> None:
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)
