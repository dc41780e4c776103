"""The plan file: a whole plan as JSON, versioned (docs/plan-format.md; JSON Schema in docs/plan-format.schema.json)."""

import json
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from yardgate.core.acl.rights import Level
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.checks import PlanError, Trouble
from yardgate.core.model.directory import Directory
from yardgate.core.model.kinds import KINDS, check
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import (
    DatasetOptions,
    Enforcement,
    FileSystem,
    Group,
    GroupQuota,
    Pattern,
    PersonalFolders,
    Place,
    PlaceKind,
    Plan,
    Snapshots,
    Target,
    User,
)
from yardgate.core.model.share import Service, Share
from yardgate.formats.notation import OwnText, Strict, from_text, to_text
from yardgate.formats.reading import FormatError
from yardgate.formats.versions import plan_of_version_1

VERSION: Literal[2] = 2


class GrantRecord(Strict):
    """One line of a place's list. The order of the lines of one place is the order in which they are read."""

    place: str
    who: Annotated[str, Field(description="id of a user or group, or 'everyone'")]
    level: Literal[Level.RW, Level.RO, Level.NA]


class PlaceRecord(Strict):
    """A place. Its list stands in the letters of nfs4_acl(5), in rwx, or as an octal mode."""

    id: str
    name: str
    kind: PlaceKind
    parent: str | None = None
    note: str = ""
    owner: Annotated[str | None, Field(description="id of a user, or root; none: from above, or root")] = None
    group: Annotated[str | None, Field(description="id of a group, or root; none: from above, or root")] = None
    acl: OwnText | None = None
    inheritance_stops: Annotated[bool, Field(description="whether nothing comes down to this place")] = False
    enforced_by: Annotated[
        Enforcement | None, Field(description="what enforces its grants; none: as above, or share")
    ] = None
    quota: Annotated[int | None, Field(description="the most that it may hold, in bytes; of a pool, what it has")] = (
        None
    )
    case_sensitive: Annotated[bool, Field(description="whether names that differ only in case are two")] = False
    personal_folders: Annotated[
        PersonalFolders | None,
        Field(description="in it, every member of a group, and each of some people, has a folder"),
    ] = None
    folder_of: Annotated[str | None, Field(description="id of the user whose folder this is, of such ones")] = None
    group_quotas: Annotated[
        tuple[GroupQuota, ...], Field(description="the most that groups may take in it, in bytes")
    ] = ()
    file_system: Annotated[FileSystem, Field(description="of a pool, what it is on the host")] = "folder"
    snapshots: Annotated[
        Snapshots | None,
        Field(description="how many snapshots are kept: the newest of each of the last hours, days, weeks, months"),
    ] = None
    options: Annotated[
        DatasetOptions | None,
        Field(description="of a pool or dataset: access times, sync, compression, and who asked for them"),
    ] = None

    @staticmethod
    def told(place: Place) -> "PlaceRecord":
        plain = {name: getattr(place, name) for name in PlaceRecord.model_fields if name != "acl"}
        return PlaceRecord.model_construct(**plain, acl=None if place.acl is None else to_text(place.acl))

    def record(self) -> Place:
        plain = {name: getattr(self, name) for name in PlaceRecord.model_fields if name != "acl"}
        return Place(**plain, acl=None if self.acl is None else from_text(self.acl))


class PatternRecord(Strict):
    """A list kept under a name."""

    id: str
    name: str
    acl: OwnText
    note: str = ""

    @staticmethod
    def told(pattern: Pattern) -> "PatternRecord":
        return PatternRecord(id=pattern.id, name=pattern.name, acl=to_text(pattern.acl), note=pattern.note)

    def record(self) -> Pattern:
        return Pattern(id=self.id, name=self.name, acl=from_text(self.acl), note=self.note)


class PlanFile(BaseModel):
    """A plan as a file."""

    model_config = ConfigDict(extra="forbid", title="Yard Gate plan file")
    format: Literal["yardgate-plan"]
    version: Literal[2]
    name: str = "appliance"
    office: str = ""
    purpose: Annotated[str, Field(description="what the appliance is for, for people who take it over")] = ""
    target: Target = Field(default_factory=Target)
    users: list[User] = []
    groups: list[Group] = []
    places: list[PlaceRecord] = []
    grants: list[GrantRecord] = []
    patterns: list[PatternRecord] = []
    directories: list[Directory] = []
    shares: list[Share] = []
    services: list[Service] = []
    promises: list[Promise] = []
    needs: Annotated[list[Need], Field(description="what people need, whatever the plan gives them")] = []
    accepted: Annotated[list[Accepted], Field(description="findings that are accepted, by the id of the finding")] = []


def _told(record: Any) -> Any:
    """A record as the file has it: lists of permissions in letters."""
    if isinstance(record, Place):
        return PlaceRecord.told(record)
    return PatternRecord.told(record) if isinstance(record, Pattern) else record


def _meant(record: Any) -> Any:
    """The record that a record of the file means."""
    return record.record() if isinstance(record, PlaceRecord | PatternRecord) else record


def write(plan: Plan) -> str:
    """A plan as text, the same for equal plans: records sorted by id, grants in list order, default values left out."""
    file = PlanFile(
        format="yardgate-plan",
        version=VERSION,
        name=plan.name,
        office=plan.office,
        purpose=plan.purpose,
        target=plan.target,
        grants=[
            GrantRecord.model_construct(place=place, who=who, level=level)
            for place in sorted(plan.grants)
            for who, level in plan.grants[place].items()
        ],
        **{kind.part: [_told(record) for _, record in sorted(kind.of(plan).items())] for kind in KINDS},
    )
    body: dict[str, Any] = file.model_dump(mode="json", exclude_defaults=True)
    for group in body.get("groups", []):
        if "members" in group:
            group["members"].sort()
    for service in body.get("services", []):
        if service.get("allowed"):
            service["allowed"].sort()
    for promise in body.get("promises", []):
        if "except_for" in promise:
            promise["except_for"].sort()
    for place in body.get("places", []):
        for whos in (place.get("personal_folders") or {}).values():
            if isinstance(whos, list):
                whos.sort()
    return json.dumps(body, ensure_ascii=False, indent=1) + "\n"


def read(text: str) -> Plan:
    """The plan in a file. Raises FormatError where the text is no plan file, PlanError where the plan cannot stand."""
    try:
        raw = json.loads(text, object_pairs_hook=_no_duplicates)
    except json.JSONDecodeError as error:
        raise FormatError(f"not JSON: {error.msg}", error.lineno, error.colno) from None
    except RecursionError:
        raise FormatError("nested too deeply to be a plan file") from None
    if not isinstance(raw, dict) or raw.get("format") != "yardgate-plan":
        raise FormatError('this is not a plan file: it must be a JSON object with "format": "yardgate-plan"')
    if raw.get("version") == 1:
        raw = plan_of_version_1(raw)
    if raw.get("version") != VERSION:
        raise FormatError(
            f"plan file version {raw.get('version')!r} is not known here; this program reads versions 1 and {VERSION}"
        )
    try:
        file = PlanFile.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(step) for step in first["loc"])
        raise FormatError(f"{where}: {first['msg']} (of {error.error_count()} such errors, the first)") from None
    return _plan(file)


def _no_duplicates(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise FormatError(f"the key {twice[:40]!r} stands twice in one object")
    return found


def _plan(file: PlanFile) -> Plan:
    troubles = [
        Trouble(record.id, f"the id {record.id!r} stands twice among the {kind.part}")
        for kind in KINDS
        for number, record in _repeated(getattr(file, kind.part))
        if number
    ]
    grants: dict[str, dict[str, Level]] = {}
    for line in file.grants:
        if line.who in grants.setdefault(line.place, {}):
            troubles.append(Trouble(line.place, f"place {line.place!r} has two grants for {line.who!r}; one line each"))
        grants[line.place][line.who] = line.level
    plan = Plan(
        name=file.name,
        office=file.office,
        purpose=file.purpose,
        target=file.target,
        grants=grants,
        **{kind.part: {record.id: _meant(record) for record in getattr(file, kind.part)} for kind in KINDS},
    )
    if troubles := [*troubles, *check(plan)]:
        raise PlanError(troubles)
    return plan


def _repeated(records: list[Any]) -> list[tuple[int, Any]]:
    """(how often its id came before, record) for each record."""
    seen: dict[str, int] = {}
    found = []
    for record in records:
        found.append((seen.get(record.id, 0), record))
        seen[record.id] = seen.get(record.id, 0) + 1
    return found


def schema() -> str:
    """The JSON Schema of the plan file, as shipped."""
    body = PlanFile.model_json_schema()
    return (
        json.dumps({"$schema": "https://json-schema.org/draft/2020-12/schema", **body}, indent=1, ensure_ascii=False)
        + "\n"
    )
