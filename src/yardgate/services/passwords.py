"""A first password for a person, to be read from paper and typed once."""

import secrets

LETTERS = "abcdefghijkmnpqrstuvwxyz23456789"  # without those that are taken for another: l, o, 0, 1
BLOCKS, LONG = 3, 4


def fresh() -> str:
    """As kp4m-x7td-93qa: 60 bits by chance."""
    return "-".join("".join(secrets.choice(LETTERS) for _ in range(LONG)) for _ in range(BLOCKS))
