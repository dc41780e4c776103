"""Snapshots of a simulated appliance's datasets: what lay in one at a time, and what is otherwise since."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

from yardgate.core.acl.rights import STRICT
from yardgate.core.host.contents import Thing
from yardgate.core.host.going_back import SOME, Differing, Since
from yardgate.core.host.state import Folder, System


@dataclass(frozen=True)
class Earlier:
    """What lies in a dataset, by the path in it: things, and folders that are planned; none is the dataset itself."""

    __pydantic_config__ = STRICT
    things: Mapping[str, Thing]
    folders: Mapping[str, Folder]


def lying(system: System, things: Mapping[str, Thing], dataset: str) -> Earlier:
    """What lies in a dataset now, but not what is in those below it."""
    below = tuple(f"{one}/" for one in system.datasets if one.startswith(f"{dataset}/"))

    def mine(path: str) -> bool:
        return (path == dataset or path.startswith(f"{dataset}/")) and not f"{path}/".startswith(below)

    def there(path: str) -> str:
        return path.removeprefix(dataset).removeprefix("/")

    return Earlier(
        {there(name): replace(one, name=there(name)) for name, one in things.items() if mine(name)},
        {there(name): replace(one, name=there(name)) for name, one in system.folders.items() if mine(name)},
    )


def since(then: Earlier, now: Earlier) -> Since:
    """Things there have rights, and no contents."""
    was, there = {**then.things, **then.folders}, {**now.things, **now.folders}
    new, gone = sorted(there.keys() - was.keys()), sorted(was.keys() - there.keys())
    rights = sorted(name for name in was.keys() & there.keys() if was[name] != there[name])
    people: dict[str, int] = {}
    for one in (now.things[name] for name in new if name in now.things and not now.things[name].folder):
        people[one.owner] = people.get(one.owner, 0) + 1
    some = [Differing("new", name) for name in new] + [Differing("gone", name) for name in gone]
    some += [Differing("rights", name) for name in rights]
    return Since(
        things=len(was.keys() | there.keys()),
        new=len(new),
        gone=len(gone),
        rights=len(rights),
        people=people,
        some=tuple(some[:SOME]),
    )


def back(system: System, things: Mapping[str, Thing], dataset: str, then: Earlier) -> tuple[System, dict[str, Thing]]:
    """What the whole appliance has, and all that lies in it, when a dataset went back."""
    now = lying(system, things, dataset)

    def whole(path: str) -> str:
        return f"{dataset}/{path}" if path else dataset

    gone_things, gone_folders = {whole(path) for path in now.things}, {whole(path) for path in now.folders}
    lie = {name: one for name, one in things.items() if name not in gone_things}
    folders = {name: one for name, one in system.folders.items() if name not in gone_folders}
    lie |= {whole(path): replace(one, name=whole(path)) for path, one in then.things.items()}
    folders |= {whole(path): replace(one, name=whole(path)) for path, one in then.folders.items()}
    return replace(system, folders=folders), lie
