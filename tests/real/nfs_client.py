"""An NFS client that claims any numeric ids: what is needed of libnfs (libnfs.h), by ctypes."""

import ctypes
import errno
import os
from ctypes import POINTER, Structure, byref, c_char_p, c_int, c_uint32, c_uint64, c_void_p
from typing import Any

LIB = ctypes.CDLL("libnfs.so.13")


class Url(Structure):
    _fields_ = (("server", c_char_p), ("path", c_char_p), ("file", c_char_p))


class Entry(Structure):
    """The head of `struct nfsdirent`."""


Entry._fields_ = (("next", c_void_p), ("name", c_char_p), ("inode", c_uint64))

RESULTS: dict[str, Any] = {
    "nfs_init_context": c_void_p,
    "nfs_parse_url_dir": POINTER(Url),
    "libnfs_authunix_create": c_void_p,
    "nfs_get_error": c_char_p,
    "nfs_readdir": POINTER(Entry),
}


def call(name: str, *given: Any) -> Any:
    function = getattr(LIB, name)
    function.restype = RESULTS.get(name, c_int)
    return function(*given)


class NotAsked(OSError):
    """What the library refuses by itself."""


class Client:
    """One mount. Raises OSError with the number that the client library tells."""

    mounts = 0

    def __init__(self, server: str, export: str, version: int, uid: int, gid: int, gids: list[int]) -> None:
        self.context = c_void_p(call("nfs_init_context"))
        url = f"nfs://{server}{export}?version={version}&nfsport=2049&mountport=20048&auto-traverse-mounts=0"
        if version == 4:
            url = url.replace("&mountport=20048", "")
        parsed = call("nfs_parse_url_dir", self.context, url.encode())
        claimed = (c_uint32 * max(len(gids), 1))(*gids)
        call(
            "nfs_set_auth",
            self.context,
            c_void_p(call("libnfs_authunix_create", b"quay", uid, gid, len(gids), claimed)),
        )
        call("nfs_set_timeout", self.context, 20000)
        Client.mounts += 1  # a name of its own for each, or version 4 takes them for one client that started anew
        call("nfs4_set_client_name", self.context, f"quay-{os.getpid()}-{Client.mounts}".encode())
        self._do("nfs_mount", parsed.contents.server, parsed.contents.path)

    def _do(self, name: str, *given: Any) -> int:
        done: int = call(name, self.context, *given)
        if done < 0:
            said = (call("nfs_get_error", self.context) or b"").decode(errors="replace")
            if "Insufficient ACCESS" in said:
                raise NotAsked(errno.EACCES, said)
            raise OSError(
                errno.EACCES if "NFS4ERR_WRONGSEC" in said or "NFS4ERR_MOVED" in said else -done, f"{name}: {said}"
            )
        return done

    def access(self, path: str = "/") -> int:
        """What the server says the claimed numbers may do: 4 reading, 2 writing, 1 entering or running."""
        return self._do("nfs_access2", path.encode())

    def names(self, path: str) -> list[str]:
        folder, found = c_void_p(), []
        self._do("nfs_opendir", path.encode(), byref(folder))
        while entry := call("nfs_readdir", self.context, folder):
            found.append(entry.contents.name.decode())
        call("nfs_closedir", self.context, folder)
        return found

    def _opened(self, name: str, path: str, *how: int) -> c_void_p:
        file = c_void_p()
        self._do(name, path.encode(), *how, byref(file))
        return file

    def _with(self, path: str, how: int, access: int, act: str, data: Any) -> None:
        """Open a file and do something. Over version 4 the library looks at the folder's ACCESS first and may not even try;
        then what the server says of the file itself counts."""
        try:
            file = self._opened("nfs_open", path, how)
        except NotAsked:
            if not self.access(path) & access:
                raise
            return
        try:
            self._do(act, file, c_uint64(1), data)
        finally:
            call("nfs_close", self.context, file)

    def read(self, path: str) -> None:
        self._with(path, os.O_RDONLY, 4, "nfs_read", ctypes.create_string_buffer(1))

    def write(self, path: str) -> None:
        self._with(path, os.O_WRONLY, 2, "nfs_write", b"x")

    def make(self, path: str) -> None:
        call(
            "nfs_close",
            self.context,
            self._opened("nfs_open2", path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644),
        )

    def unlink(self, path: str) -> None:
        self._do("nfs_unlink", path.encode())

    def close(self) -> None:
        call("nfs_destroy_context", self.context)
