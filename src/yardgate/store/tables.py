"""The tables. A plan's objects are rows, so that the database can be read by others; the journal says how they came about."""

from sqlalchemy import (
    JSON,
    Boolean,
    Column,
    Date,
    ForeignKey,
    ForeignKeyConstraint,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    false,
)

metadata = MetaData(
    naming_convention={
        "pk": "pk_%(table_name)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s_%(referred_table_name)s",
        "uq": "uq_%(table_name)s_%(column_0_name)s",
        "ix": "ix_%(table_name)s_%(column_0_name)s",
    }
)


def _of_plan() -> Column[str]:
    return Column("plan", String, ForeignKey("plans.id", ondelete="CASCADE"), primary_key=True)


def _within(table: str, column: str) -> ForeignKeyConstraint:
    """A column that names an object of the same plan; checked when the transaction ends, so that rows may come in any order."""
    return ForeignKeyConstraint(
        ["plan", column], [f"{table}.plan", f"{table}.id"], deferrable=True, initially="DEFERRED"
    )


plans = Table(
    "plans",
    metadata,
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("office", String, nullable=False),
    Column("purpose", Text, nullable=False, server_default=""),
    Column("revision", Integer, nullable=False),
    Column("archived", Boolean, nullable=False),
    Column("created_at", String, nullable=False),
    Column("precedence", String, nullable=False),
    Column("combining", String, nullable=False),
    Column("baseline", String),
    Column("baseline_covers_directory", Boolean, nullable=False),
    Column("administrators", String),
    Column("traverse", String, nullable=False, server_default="checked"),
    Column("attributes_open", Boolean, nullable=False, server_default=false()),
    Column("host_rules", String, nullable=False, server_default="narrowest"),
    Column("wildcards", String, nullable=False, server_default="both"),
    Column("nfs_traverse", String, nullable=False, server_default="checked"),
    Column("addresses", JSON, nullable=False, server_default="[]"),
    Column("answered", JSON, nullable=False, server_default="[]"),
)
users = Table(
    "users",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("full_name", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("uid", Integer),
    Column("primary_group", String),
    Column("enabled", Boolean, nullable=False),
    Column("expires", Date),
    Column("aliases", JSON, nullable=False),
    Column("origin", String, nullable=False),
    Column("key", String),
    Column("sid", String),
    Column("gone", Boolean, nullable=False, server_default=false()),
    Column("jobs", JSON, nullable=False, server_default="[]"),
    Column("note", Text, nullable=False),
    _within("groups", "primary_group"),
)
groups = Table(
    "groups",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("gid", Integer),
    Column("origin", String, nullable=False),
    Column("key", String),
    Column("sid", String),
    Column("gone", Boolean, nullable=False, server_default=false()),
    Column("unknown", JSON, nullable=False, server_default="[]"),
    Column("note", Text, nullable=False),
)
members = Table(
    "members",
    metadata,
    _of_plan(),
    Column("group", String, primary_key=True),
    Column("member", String, primary_key=True),
    _within("groups", "group"),
)
places = Table(
    "places",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("parent", String),
    Column("note", Text, nullable=False),
    Column("owner", String),
    Column("group", String),
    Column("acl", JSON(none_as_null=True)),
    Column("inheritance_stops", Boolean, nullable=False, server_default=false()),
    Column("enforced_by", String),
    Column("quota", Integer),
    Column("case_sensitive", Boolean, nullable=False, server_default=false()),
    Column("personal_folders", JSON(none_as_null=True)),
    Column("folder_of", String),
    Column("group_quotas", JSON, nullable=False, server_default="[]"),
    Column("file_system", String, nullable=False, server_default="folder"),
    Column("snapshots", JSON(none_as_null=True)),
    _within("places", "parent"),
)
patterns = Table(
    "patterns",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("acl", JSON, nullable=False),
    Column("note", Text, nullable=False),
)
shares = Table(
    "shares",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("place", String, nullable=False),
    Column("smb", Boolean, nullable=False),
    Column("nfs", Boolean, nullable=False),
    Column("guests", String, nullable=False),
    Column("read_only", Boolean, nullable=False),
    Column("hidden", Boolean, nullable=False),
    Column("hide_unreadable", Boolean, nullable=False),
    Column("versions", Boolean, nullable=False, server_default=false()),
    Column("recycle", Boolean, nullable=False, server_default=false()),
    Column("administrator", String),
    Column("hosts", JSON, nullable=False),
    Column("squash", String, nullable=False),
    Column("note", Text, nullable=False),
    _within("places", "place"),
)
services = Table(
    "services",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("on", Boolean, nullable=False),
    Column("allowed", JSON(none_as_null=True)),
)
promises = Table(
    "promises",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("who", String, nullable=False),
    Column("must", Boolean, nullable=False),
    Column("act", String, nullable=False),
    Column("place", String, nullable=False),
    Column("except_for", JSON, nullable=False),
    Column("protocol", String),
    Column("note", Text, nullable=False),
    _within("places", "place"),
)
needs = Table(
    "needs",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("who", String, nullable=False),
    Column("place", String, nullable=False),
    Column("wish", String, nullable=False),
    Column("asked_by", Text, nullable=False),
    Column("note", Text, nullable=False),
    _within("places", "place"),
)
accepted = Table(  # findings that are accepted, by the id of the finding
    "accepted",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("reason", Text, nullable=False),
    Column("until", Date),
)
rollouts = Table(  # what was put on the appliance, or read from it, and what it has since then
    "rollouts",
    metadata,
    _of_plan(),
    Column("number", Integer, primary_key=True),
    Column("kind", String, nullable=False),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
    Column("revision", Integer, nullable=False),
    Column("top", String, nullable=False),
    Column("steps", JSON, nullable=False),
    Column("system", Text, nullable=False),
    Column("run", Integer),
    Column("appliance", String, nullable=False),
)
destinations = Table(  # where a plan goes
    "destinations",
    metadata,
    _of_plan(),
    Column("destination", JSON, nullable=False),
    Column("host", JSON(none_as_null=True)),  # the accounts that it had when it was looked at last
)
managed = Table(  # accounts and groups that a plan may change on its host
    "managed",
    metadata,
    _of_plan(),
    Column("part", String, primary_key=True),
    Column("name", String, primary_key=True),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
)
runs = Table(  # what is carried out there, and was
    "runs",
    metadata,
    _of_plan(),
    Column("number", Integer, primary_key=True),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
    Column("revision", Integer, nullable=False),
    Column("top", String, nullable=False),
    Column("destination", JSON, nullable=False),
    Column("seconds", Integer, nullable=False),
    Column("before", Text, nullable=False),
    Column("steps", Text, nullable=False),
    Column("questions", Text, nullable=False),
    Column("state", String, nullable=False),
    Column("trouble", Text, nullable=False),
    Column("until", String),
    Column("ended", String),
)
run_lines = Table(  # what came of it, line by line
    "run_lines",
    metadata,
    Column("plan", String, primary_key=True),
    Column("run", Integer, primary_key=True),
    Column("number", Integer, primary_key=True),
    Column("kind", String, nullable=False),
    Column("at", String, nullable=False),
    Column("said", JSON, nullable=False),
    ForeignKeyConstraint(["plan", "run"], ["runs.plan", "runs.number"], ondelete="CASCADE"),
)
pushes = Table(  # lists pushed down over what lies in folders
    "pushes",
    metadata,
    _of_plan(),
    Column("number", Integer, primary_key=True),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
    Column("destination", JSON, nullable=False),
    Column("there", Text, nullable=False),
    Column("folders", JSON, nullable=False),
    Column("does", String, nullable=False),
    Column("state", String, nullable=False),
    Column("counts", JSON, nullable=False),
    Column("trouble", Text, nullable=False),
    Column("snapshots", JSON, nullable=False, server_default="[]"),
)
push_parts = Table(  # what things were before
    "push_parts",
    metadata,
    _of_plan(),
    Column("number", Integer, primary_key=True),
    Column("folder", String, nullable=False),
    Column("things", Text, nullable=False),
)
directories = Table(
    "directories",
    metadata,
    _of_plan(),
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("domain", String, nullable=False),
    Column("schema", String, nullable=False),
    Column("controller", String),
    Column("security", String, nullable=False),
    Column("fingerprint", String),
    Column("plain_agreed", Boolean, nullable=False),
    Column("reader", String, nullable=False),
    Column("base", String, nullable=False),
    Column("branches", JSON, nullable=False),
    Column("filter", String, nullable=False),
    Column("users", Boolean, nullable=False),
    Column("groups", Boolean, nullable=False),
    Column("services", Boolean, nullable=False),
    Column("numbering", String, nullable=False),
    Column("low", Integer, nullable=False),
    Column("high", Integer, nullable=False),
    Column("next", Integer),
)
copies = Table(  # what was last read of each directory; not part of the plan, and not undone with it
    "copies",
    metadata,
    _of_plan(),
    Column("directory", String, primary_key=True),
    Column("at", String, nullable=False),
    Column("full", Boolean, nullable=False),
    Column("marker", String),
    Column("records", Text, nullable=False),
)
servers = Table(  # from which server an administrator agreed that a directory is read
    "servers",
    metadata,
    _of_plan(),
    Column("directory", String, primary_key=True),
    Column("server", JSON, nullable=False),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
)
grants = Table(
    "grants",
    metadata,
    _of_plan(),
    Column("place", String, primary_key=True),
    Column("who", String, primary_key=True),
    Column("position", Integer, nullable=False),
    Column("level", String, nullable=False),
    _within("places", "place"),
)
journal = Table(
    "journal",
    metadata,
    _of_plan(),
    Column("revision", Integer, primary_key=True),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("words", Text, nullable=False),
    Column("edits", Text, nullable=False),
    Column("inverse", Text, nullable=False),
)
snapshots = Table(  # whole plans as they were, now and then, so that old revisions are near
    "snapshots",
    metadata,
    _of_plan(),
    Column("revision", Integer, primary_key=True),
    Column("edits", Text, nullable=False),
)
versions = Table(
    "versions",
    metadata,
    _of_plan(),
    Column("name", String, primary_key=True),
    Column("revision", Integer, nullable=False),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
)
accounts = Table(
    "accounts",
    metadata,
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False, unique=True),
    Column("role", String, nullable=False),
    Column("password", String),
    Column("disabled", Boolean, nullable=False),
    Column("created_at", String, nullable=False),
)
plan_roles = Table(  # what a member may do in single plans
    "plan_roles",
    metadata,
    _of_plan(),
    Column("account", String, ForeignKey("accounts.id", ondelete="CASCADE"), primary_key=True),
    Column("role", String, nullable=False),
)
sessions = Table(
    "sessions",
    metadata,
    Column("token", String, primary_key=True),
    Column("account", String, ForeignKey("accounts.id", ondelete="CASCADE"), nullable=False),
    Column("until", Integer, nullable=False),
    Column("id", String, nullable=False, server_default=""),
    Column("made_at", Integer, nullable=False, server_default="0"),
    Column("seen_at", Integer, nullable=False, server_default="0"),
    Column("address", String, nullable=False, server_default=""),
    Column("agent", String, nullable=False, server_default=""),
    Column("by_link", Boolean, nullable=False, server_default=false()),
)
audit = Table(  # rows are added only: triggers refuse all else
    "audit",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("at", String, nullable=False),
    Column("by", String, nullable=False),
    Column("address", String, nullable=False),
    Column("what", String, nullable=False),
    Column("about", Text, nullable=False),
    Column("plan", String),
)
commands = Table(  # run on hosts; added only, too
    "commands",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("at", String, nullable=False),
    Column("plan", String),
    Column("run", Integer),
    Column("host", String, nullable=False),
    Column("why", String, nullable=False),
    Column("command", Text, nullable=False),
    Column("code", Integer, nullable=False),
    Column("said", Text, nullable=False),
)
links = Table(
    "links",
    metadata,
    Column("token", String, primary_key=True),
    Column("account", String, ForeignKey("accounts.id", ondelete="CASCADE")),
    Column("until", Integer, nullable=False),
)
