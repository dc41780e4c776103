"""Memory of the C library's: few arenas for all threads, and what lies free is given back (mallopt(3), malloc_trim(3)). Elsewhere nothing is done. And Python's collector."""

import ctypes
import gc
from contextlib import suppress

ARENA_MAX = -8  # M_ARENA_MAX of malloc.h
ARENAS = 2


def share_arenas() -> None:
    """What one thread gave back is used by the others; to be called before there are any."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(ARENA_MAX, ARENAS)


def rest_collector() -> None:
    """What the program itself is made of is not looked through for garbage any more, and all there is only seldom: with large plans open each time costs
    an answer over 100 ms. To be called when everything is loaded."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(10_000, 20, 20)


def give_back() -> None:
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)
