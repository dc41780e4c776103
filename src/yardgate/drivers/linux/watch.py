"""A watch on a Linux host that puts everything back by itself, unless it is told in time that it is kept.

It is a shell of its own, in a session of its own: it goes on when whoever started the rollout is gone, killed or cut off. Where the
host has cron(8), it also goes on over a restart of the host: what was armed then is put back at once. It goes by how long the host has been up, not
by the time of day, which somebody may set.
"""

from yardgate.drivers.appliance import RolloutUnderWay, TooLate, Watching
from yardgate.drivers.linux.command import Command, Runner

FOLDER = "/var/lib/yardgate"
AT_START = "/etc/cron.d/yardgate-put-back"
WATCH = """cd "$1"
while test -e armed; do
  last=$(cut -d. -f1 armed) || exit 0
  now=$(cut -d. -f1 /proc/uptime)
  if test -n "$last" && { test "$((now - last))" -ge "$2" || test "$now" -lt "$last"; }; then
    mv armed undoing || exit 0
    sh undo.sh --undo > said 2>&1 && echo rolled back > ended || echo partly rolled back > ended
    rm -f undoing "$3"
    exit
  fi
  sleep 1
done"""
ARM = """umask 077; mkdir -p -- "$1"; cd "$1"
if test -e undoing || ! (set -C; cat /proc/uptime > armed) 2> /dev/null; then echo busy; exit 9; fi
rm -f ended said; cat > undo.sh; printf '%s\\n' "$3" > watch.sh
if test -d /etc/cron.d; then
  echo "@reboot root test ! -e $1/armed || sh $1/watch.sh $1 0 $4; test ! -e $1/undoing || { mv $1/undoing $1/armed; sh $1/watch.sh $1 0 $4; }" > "$4"
fi
setsid sh watch.sh "$1" "$2" "$4" < /dev/null > /dev/null 2>&1 &
"""
ALIVE = """dd if=/proc/uptime of="$1/armed" conv=nocreat,notrunc status=none 2> /dev/null || { echo late; exit 9; }"""
END = """rm -- "$1/armed" 2> /dev/null || { echo late; exit 9; }; rm -f -- "$2" """
SAY = """cd "$1" 2> /dev/null || { echo nothing; exit 0; }
if test -e undoing; then echo rolling back; elif test -e armed; then echo armed; else cat ended 2> /dev/null || echo nothing; fi"""
REFUSED = 9


class Watch:
    def __init__(self, run: Runner, folder: str = FOLDER, at_start: str = AT_START):
        self.run, self.folder, self.at_start = run, folder, at_start

    def arm(self, undo: str, seconds: int) -> None:
        """undo: a script that puts everything back with --undo. Raises Busy."""
        self._ask("begin to watch", ARM, str(seconds), WATCH, self.at_start, given=undo)

    def alive(self) -> None:
        """Raises TooLate."""
        self._ask("tell the watch that all goes on", ALIVE)

    def end(self) -> None:
        """Raises TooLate."""
        self._ask("end the watch", END, self.at_start)

    def watching(self) -> Watching:
        said = self._ask("ask the watch", SAY)
        kinds: tuple[Watching, ...] = ("armed", "rolling back", "rolled back", "partly rolled back")
        return next((kind for kind in kinds if kind == said), "nothing")

    def _ask(self, why: str, script: str, *more: str, given: str = "") -> str:
        done = self.run(Command(("sh", "-euc", script, "sh", self.folder, *more), why, given, changes=False, root=True))
        if done.code == REFUSED:
            raise (RolloutUnderWay(UNDER_WAY) if done.out.strip() == "busy" else TooLate(PUTS_BACK))
        return done.needed(why).strip()


UNDER_WAY = """another rollout is under way on this host, or is being put back: wait for it to end"""
PUTS_BACK = "the host puts everything back by itself, or has"
