"""Asks the kernel, as somebody: reads one JSON task a line, forks a child with those ids for it, writes one JSON answer a line.

A process of its own, without threads, so that forking is safe. Needs nothing but the standard library.
"""

import json
import os
import sys
import traceback


def tried(act, *arguments) -> bool:
    try:
        found = act(*arguments)
    except OSError:
        return False
    if isinstance(found, int):
        os.close(found)
    return True


def ask(folder: str, me: str) -> dict[str, object]:
    """Everything about one folder with the files `plain` and `doomed-<me>` in it."""
    plain = f"{folder}/plain"
    answer: dict[str, object] = {
        "enter": os.access(folder, os.X_OK, effective_ids=True) and tried(os.stat, f"{folder}/."),
        "list": tried(os.listdir, folder),
        "read": tried(os.open, plain, os.O_RDONLY),
        "write": tried(os.open, plain, os.O_WRONLY),
        "both": tried(os.open, plain, os.O_RDWR),
        "run": os.access(plain, os.X_OK, effective_ids=True),
        "add": tried(lambda: os.open(f"{folder}/new-{me}", os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o666)),
        "add folder": tried(os.mkdir, f"{folder}/new-folder-{me}", 0o777),
        "delete": tried(os.unlink, f"{folder}/doomed-{me}"),
    }
    return answer


def act(task: dict) -> None:
    os.setgroups(task["groups"])
    os.setresgid(task["gid"], task["gid"], task["gid"])
    os.setresuid(task["uid"], task["uid"], task["uid"])
    os.umask(task["umask"])
    answers = [ask(folder, task["me"]) for folder in task["folders"]]
    sys.stdout.write(json.dumps(answers) + "\n")
    sys.stdout.flush()


for line in sys.stdin:
    child = os.fork()
    if child == 0:
        try:
            act(json.loads(line))
            os._exit(0)
        except BaseException:
            traceback.print_exc()
            os._exit(1)
    if os.waitpid(child, 0)[1]:
        sys.exit("the child that asked failed")
