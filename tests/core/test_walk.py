"""What somebody can do in the folders of a share, each thing by the right that it takes."""

import pytest

from tests.conftest import ON
from yardgate.core.access.walk import walk
from yardgate.core.acl import Entry, Ordered
from yardgate.core.acl.nfs4 import DIRECTORY_INHERIT, FILE_INHERIT, INHERIT_ONLY
from yardgate.core.acl.rights import (
    ADD_FILE,
    DELETE,
    DELETE_CHILD,
    EXECUTE,
    FULL,
    LIST_DIRECTORY,
    READ_DATA,
    WRITE_DATA,
    Level,
)
from yardgate.core.model.plan import EVERYONE, Place, Plan, User
from yardgate.core.model.share import Over, Share

HERE, FILES = DIRECTORY_INHERIT, FILE_INHERIT | INHERIT_ONLY


@pytest.mark.parametrize(
    ("folder", "file", "level", "can"),
    [
        (FULL, FULL, Level.RW, {"enters", "looks", "lists", "reads", "changes", "adds", "deletes"}),
        (FULL, FULL & ~WRITE_DATA, Level.RW, {"enters", "looks", "lists", "reads", "adds", "deletes"}),
        (FULL, FULL & ~READ_DATA, Level.RW, {"enters", "looks", "lists", "changes", "adds", "deletes"}),
        (FULL & ~ADD_FILE, FULL, Level.RW, {"enters", "looks", "lists", "reads", "changes", "deletes"}),
        (FULL & ~DELETE_CHILD, FULL & ~DELETE, Level.RW, {"enters", "looks", "lists", "reads", "changes", "adds"}),
        (FULL & ~LIST_DIRECTORY, FULL, Level.RW, {"enters", "reads", "changes", "adds", "deletes"}),
        (FULL & ~EXECUTE, FULL, Level.RW, set()),
        (FULL, FULL, Level.RO, {"enters", "looks", "lists", "reads"}),
        (FULL, FULL, Level.NA, set()),
    ],
)
def test_each_thing_takes_its_right_and_the_share_s_leave(folder: int, file: int, level: Level, can: set[str]) -> None:
    own = Ordered((Entry("allow", "ann", folder, HERE), Entry("allow", "ann", file, FILES)))
    plan = Plan(
        users={"ann": User(id="ann", name="ann")},
        places={"top": Place(id="top", name="top", kind="pool", acl=own)},
        grants={"top": {EVERYONE: level}},
        shares={"s": Share(id="s", name="s", place="top")},
    )
    (visit,) = walk(plan, "ann", Over("s", "smb"), ON)
    things = ("enters", "looks", "lists", "reads", "changes", "adds", "deletes")
    assert {thing for thing in things if getattr(visit, thing)} == can
