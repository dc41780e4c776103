"""What version 1 of the plan file, and of edits as JSON, called things. It is read for ever; only version 2 is written."""

from collections.abc import Mapping
from typing import Any

from yardgate.formats.reading import FormatError

FIELDS: Mapping[str, Mapping[str, str]] = {
    "place": {
        "own": "acl",
        "cut": "inheritance_stops",
        "carried": "enforced_by",
        "each": "personal_folders",
        "of": "folder_of",
    },
    "pattern": {"own": "acl"},
    "promise": {"but": "except_for", "over": "protocol"},
    "service": {"only": "allowed"},
    "target": {"tiers": "precedence", "within": "combining", "entering": "traverse", "nfs_way": "nfs_traverse"},
    "personal_folders": {"keepers": "managers"},
}
"""What has fields of other names now: old -> new."""
PARTS = {"places": "place", "patterns": "pattern", "promises": "promise", "services": "service"}
"""The parts of a plan that have such records, and what one of them is called."""
TRAVERSE: Mapping[str, str] = {"asked": "checked", "free": "bypassed"}


def renamed(kind: str, record: Any) -> Any:
    """A record of version 1 as version 2 has it. What is no record stays as it is, for whoever reads it to refuse.

    Raises FormatError where it has a name that version 1 did not know.
    """
    names = FIELDS.get(kind)
    if names is None or not isinstance(record, dict):
        return record
    if early := sorted(record.keys() & set(names.values())):
        raise FormatError(f"{kind}: {early[0]!r} is not known in version 1")
    found = {names.get(name, name): value for name, value in record.items()}
    if kind == "place" and "personal_folders" in found:
        found["personal_folders"] = renamed("personal_folders", found["personal_folders"])
    for name in ("traverse", "nfs_traverse") if kind == "target" else ():
        if name in found:
            found[name] = TRAVERSE.get(str(found[name]), f"{found[name]} in version 1")  # else one that is refused
    return found


def plan_of_version_1(raw: Mapping[str, Any]) -> dict[str, Any]:
    """A plan file of version 1 as version 2 has it."""
    found = {
        part: [renamed(PARTS[part], record) for record in value] if part in PARTS and isinstance(value, list) else value
        for part, value in raw.items()
    }
    if "target" in found:
        found["target"] = renamed("target", found["target"])
    return {**found, "version": 2}


def edit_of_version_1(raw: Mapping[str, Any]) -> dict[str, Any]:
    """An edit of version 1 as version 2 has it."""
    return {key: renamed(key, value) if isinstance(value, dict) else value for key, value in raw.items()}
