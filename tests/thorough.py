"""How often the longest tests try: as often as fits into every run, or, with YARDGATE_THOROUGH set, as often as was promised once."""

import os


def times(usual: int, thorough: int) -> int:
    return thorough if os.environ.get("YARDGATE_THOROUGH") else usual
