"""A directory of people and groups for the tests, and changes to it such as an administrator makes."""

import random

FIRST = [
    "Ada",
    "Bo",
    "Cleo",
    "Dag",
    "Enno",
    "Fenja",
    "Gül",
    "Hauke",
    "Ida",
    "Jörn",
    "Käthe",
    "Lür",
    "Maike",
    "Nils",
    "Oda",
    "Pit",
    "Rieke",
    "Sönke",
    "Tjark",
    "Ute",
]
LAST = ("Ahlers", "O'Neil", "van Dijk", "Müller, d. Ä.", "Back\\slash", "Straße")
USERS = [f"u{number:02}" for number in range(64)]
GROUPS = [f"g{number:02}" for number in range(26)]


def populate(rng: random.Random) -> list[list[object]]:
    """64 users, 26 groups nested four deep, some for mail only, in three branches; names with what needs escapes."""
    tasks: list[list[object]] = [["unit", "Yard"], ["unit", "Lofts, old & new"], ["unit", "Away"]]
    units = ["Yard", "Lofts, old & new", "Away", ""]
    for number, name in enumerate(USERS):
        full = f"{FIRST[number % len(FIRST)]} {LAST[number % len(LAST)]} {number}"
        tasks.append(["user", name, full, units[number % 4]])
    for number, name in enumerate(GROUPS):
        scope = ("global", "local", "universal")[0 if number < 20 else number % 3]
        tasks.append(["group", name, units[number % 4], {"mail": number in (3, 11), "scope": scope}])
    for level in range(4):  # g00 in g01 in g02 ... : and many others besides
        tasks.append(["join", f"g{level + 4:02}", f"g{level + 5:02}"])
    for name in USERS:
        for group in rng.sample(GROUPS[:20], rng.randint(0, 4)):
            tasks.append(["join", group, name])
    tasks += [["join", "g03", "g12"], ["join", "g10", "g03"]]  # through a mail-only group nothing is passed on
    for name in ("u05", "u21"):
        tasks += [["join", "g15", name], ["primary", name, "g15"]]
    tasks += [["disable", "u07"], ["disable", "u33"]]
    tasks += [["set", "u09", "accountExpires", "133485408000000000"], ["rename", "u10", "u10-new", "Renamed, Person"]]
    tasks += [["set", name, "uidNumber", str(70_000 + number)] for number, name in enumerate(USERS[20:30])]
    return tasks


class Changer:
    """Random changes to the directory, each such as an administrator makes."""

    def __init__(self, rng: random.Random) -> None:
        self.rng = rng
        self.users = [name if name != "u10" else "u10-new" for name in USERS]
        self.groups = list(GROUPS)
        self.joined: set[tuple[str, str]] = set()
        self.units = ["Yard", "Away"]
        self.count = 0

    def tasks(self) -> list[list[object]]:
        rng = self.rng
        self.count += 1
        what = rng.choice(
            [
                "join",
                "join",
                "nest",
                "leave",
                "user",
                "group",
                "remove",
                "rename",
                "move",
                "primary",
                "shut",
                "number",
                "unit",
                "drop",
            ]
        )
        user, group = rng.choice(self.users), rng.choice(self.groups)
        fresh = f"n{self.count:02}"
        match what:
            case "user":
                self.users.append(fresh)
                return [["user", fresh, f"New, {fresh}", rng.choice([*self.units, ""])], ["join", group, fresh]]
            case "group":
                self.groups.append(fresh)
                return [["group", fresh, rng.choice(self.units), {"mail": rng.random() < 0.3}], ["join", fresh, user]]
            case "join":
                new = rng.choice(self.users)
                self.users.append(f"j{self.count}")
                return [
                    ["user", f"j{self.count}", f"Joiner {self.count}"],
                    ["join", group, f"j{self.count}"],
                    ["set", new, "displayName", f"Called {self.count}"],
                ]
            case "nest":
                self.groups.append(fresh)
                return [
                    ["group", fresh, ""],
                    ["join", fresh, rng.choice(self.groups[:-1])],
                    ["join", rng.choice(self.groups[20:-1]), fresh],
                ]
            case "leave":
                return [
                    ["group", f"l{self.count}", ""],
                    ["join", f"l{self.count}", user],
                    ["join", f"l{self.count}", group],
                    ["leave", f"l{self.count}", user],
                ]
            case "remove":
                self.users.remove(user)
                return [["remove", user]]
            case "drop":
                self.groups.remove(group)
                return [["leave_primary", group], ["remove", group]]
            case "rename":
                self.users[self.users.index(user)] = fresh
                return [["rename", user, fresh, f"Was {user}, is {fresh}"]]
            case "move":
                return [["move", user, rng.choice([*self.units, ""])]]
            case "primary":
                self.groups.append(fresh)
                return [["group", fresh, ""], ["join", fresh, user], ["primary", user, fresh]]
            case "shut":
                return [[rng.choice(["disable", "enable"]), user]]
            case "number":
                return [["set", user, "uidNumber", str(80_000 + self.count)]]
            case _:
                place = rng.randrange(len(self.units))
                old, self.units[place] = self.units[place], f"Unit {self.count}"
                return [["rename_unit", old, self.units[place]]]
