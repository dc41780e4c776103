"""Other names under which people sign in, as an SMB server reads them (smb.conf(5), username map): a line an account."""

import re
from collections.abc import Iterable, Mapping

from yardgate.core.host.state import HostAccount
from yardgate.formats.smb_server import names


def render(accounts: Iterable[HostAccount]) -> str:
    """A line for each account that has other names."""
    rows = sorted((one.name, one.aliases) for one in accounts if one.aliases)
    return "".join(f"{name} = {' '.join(_quoted(alias) for alias in aliases)}\n" for name, aliases in rows)


def _quoted(alias: str) -> str:
    return f'"{alias}"' if re.search(r"[\s,=;#]", alias) else alias


def read(text: str) -> Mapping[str, tuple[str, ...]]:
    """Account -> its other names, sorted. What is no such line is left out."""
    found: dict[str, tuple[str, ...]] = {}
    for line in text.splitlines():
        name, is_line, others = line.partition("=")
        if is_line and not line.lstrip().startswith(("#", ";")):
            found[name.strip().lstrip("!").strip()] = tuple(sorted(names(others)))
    return found
