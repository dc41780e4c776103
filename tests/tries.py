"""How often the property tests try: by the variable YARDGATE_TRIES, `quick` (a look), nothing (as often as fits into every run), or `thorough` (as
often as was promised once)."""

import os

TRIES = os.environ.get("YARDGATE_TRIES", "usual")
assert TRIES in ("quick", "usual", "thorough"), f"YARDGATE_TRIES is {TRIES}; there are quick, usual and thorough"


def times(usual: int, thorough: int) -> int:
    return {"quick": max(1, usual // 20), "usual": usual, "thorough": thorough}[TRIES]
