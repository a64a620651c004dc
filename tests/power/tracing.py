"""A record of all that a command does to files, made by the system's tracer, and understood."""

import ctypes
import os
import re
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.power.disk import Story

TRACER = shutil.which("strace")
_CALLS = (
    "open,openat,creat,write,pwrite64,writev,pwritev,ftruncate,truncate,rename,renameat,renameat2,link,linkat,unlink,"
    "unlinkat,mkdir,mkdirat,rmdir,symlink,symlinkat,utimensat,chmod,fchmod,fchmodat,fsync,fdatasync,syncfs,sync,fstat,"
    "newfstatat,lstat,stat,lseek"
)
_LINE = re.compile(r"(\d+) +(\w+)\((.*)\) += (-?\d+)(.*)")
_STRING = re.compile(r'"((?:\\x[0-9a-f]{2})*)"')
_AT = re.compile(r"(AT_FDCWD|\d+)<((?:\\x[0-9a-f]{2})*)>(\(deleted\))?")


_MAY_BE_TRACED_BY, _ANYBODY = 0x59616D61, -1
"""Of Linux' call `prctl`; some systems let only a parent trace otherwise."""


@contextmanager
def traced(process: int, log: Path) -> Iterator[None]:
    """Have the tracer at a process that waits meanwhile; at the end that process has ended too."""
    assert TRACER, "asked before"
    words = [TRACER, "-f", "-y", "-v", "-xx", "-s", "67108864", "-o", str(log), "-e", f"trace={_CALLS}"]
    tracer = subprocess.Popen([*words, "-p", str(process)], stderr=subprocess.PIPE)
    while re.search(r"^TracerPid:\t0$", Path(f"/proc/{process}/status").read_text(), re.MULTILINE):
        if tracer.poll() is not None:
            raise OSError(f"the tracer ended: {tracer.communicate()[1].decode()}")
        time.sleep(0.001)
    yield
    tracer.communicate()


def let_be_traced() -> None:
    """Allow the tracer to come to this process."""
    ctypes.CDLL(None).prctl(_MAY_BE_TRACED_BY, _ANYBODY)


def _bytes(text: str) -> bytes:
    return bytes.fromhex(text.replace("\\x", ""))


def _lines(log: Path) -> Iterator[str]:
    """Calls in the order in which they ended; of those that were cut in two the halves are put together."""
    begun: dict[str, str] = {}
    with log.open(encoding="ascii", errors="replace") as lines:
        for line in lines:
            process = line.partition(" ")[0]
            if line.rstrip().endswith("<unfinished ...>"):
                begun[process] = line.rstrip().removesuffix("<unfinished ...>").rstrip()
            elif " resumed>" in line:
                yield begun.pop(process, "") + line.partition(" resumed>")[2]
            else:
                yield line


class Record:
    """Enters the calls of a record into a story."""

    def __init__(self, story: Story) -> None:
        self._story = story
        self._places: dict[str, int] = {}
        """An open file's path → the place in it that is written to next."""
        self._open_as: dict[str, str] = {}
        """A descriptor's number → the path that was opened."""

    def understand(self, log: Path) -> None:
        """Enter all of it."""
        for line in _lines(log):
            matched = _LINE.match(line)
            if matched and int(matched[4]) >= 0:
                if matched[2] == "openat" and (path := re.match(r"<((?:\\x[0-9a-f]{2})*)>", matched[5])):
                    self._open_as[matched[4]] = os.fsdecode(_bytes(path[1]))
                self._enter(matched[2], matched[3], int(matched[4]))

    def _enter(self, call: str, arguments: str, result: int) -> None:
        do = self._story.do
        if call in ("fsync", "fdatasync"):
            do("sync", self._descriptor(arguments))
        elif call == "syncfs":
            do("sync-volume", self._descriptor(arguments))
        elif call == "sync":
            for volume in self._story.volumes:
                do("sync-volume", volume)
        elif call in ("open", "openat", "creat"):
            self._open(call, arguments)
        elif call in ("write", "pwrite64"):
            self._write(call, arguments, result)
        elif call in ("writev", "pwritev"):
            raise AssertionError(f"a call that is not understood: {call}({arguments[:80]}")
        elif call == "lseek":
            self._places[self._descriptor(arguments)] = result
        elif call == "ftruncate":
            do("cut", self._descriptor(arguments), value=int(arguments.rpartition(",")[2]))
        elif call in ("rename", "renameat", "renameat2"):
            old, new = self._paths(arguments)
            do("rename", new, old)
        elif call in ("link", "linkat"):
            old, new = self._paths(arguments)
            do("link", new, old)
        elif call in ("unlink", "unlinkat", "rmdir"):
            do("unlink", self._paths(arguments)[0])
        elif call in ("mkdir", "mkdirat"):
            path = self._paths(arguments)[0]
            mode = int(arguments.rpartition(",")[2], 8)
            do("make", path, made=("directory", mode & ~_MASK, ""))
        elif call in ("symlink", "symlinkat"):
            target = os.fsdecode(_bytes(_STRING.findall(arguments)[0]))
            do("make", self._paths(arguments, skip=1)[0], made=("link", 0o777, target))
        elif call in ("chmod", "fchmod", "fchmodat"):
            numbers = re.findall(r", (0\d+)", arguments)
            do("mode", self._path(arguments), value=int(numbers[0], 8))
        elif call == "utimensat":
            seconds, parts = re.findall(r"tv_sec=(\d+), tv_nsec=(\d+)", arguments)[1]
            do("time", self._path(arguments), value=int(seconds) * 10**9 + int(parts))
        elif call in ("fstat", "newfstatat", "lstat", "stat"):
            self._seen(arguments)

    def _open(self, call: str, arguments: str) -> None:
        path = self._paths(arguments)[0]
        if self._story.volume_of(path) is None:
            return
        there = self._story.find(path)
        mode = re.findall(r", (0\d+)$", arguments)
        if there is None and ("O_CREAT" in arguments or call == "creat"):
            self._story.do("make", path, made=("file", (int(mode[0], 8) if mode else 0o666) & ~_MASK, ""))
        elif there is not None and there.kind == "file" and "O_TRUNC" in arguments:
            self._story.do("cut", path, value=0)
        self._places[path] = len(there.data) if there is not None and "O_APPEND" in arguments else 0

    def _write(self, call: str, arguments: str, result: int) -> None:
        path = self._descriptor(arguments)
        if self._story.volume_of(path) is None or self._story.find(path) is None:
            return
        data = _bytes(_STRING.findall(arguments)[0])[:result]
        if call == "pwrite64":
            offset = int(arguments.rpartition(",")[2])
        else:
            offset = self._places.get(path, 0)
            self._places[path] = offset + result
        self._story.do("write", path, offset=offset, data=data)

    def _seen(self, arguments: str) -> None:
        if "st_ino=" not in arguments:
            return
        path = self._path(arguments)
        inode = int(re.findall(r"st_ino=(\d+)", arguments)[0])
        modified = int(re.findall(r"st_mtime=(-?\d+)", arguments)[0]) * 10**9
        modified += int(re.findall(r"st_mtime_nsec=(\d+)", arguments)[0])
        thing = self._story.find(path)
        is_link = "S_IFLNK" in arguments
        if thing is not None and (thing.kind == "link") == is_link:
            self._story.seen(path, inode, modified)

    def _descriptor(self, arguments: str) -> str:
        matched = _AT.match(arguments)
        assert matched, arguments[:80]
        return "" if matched[3] else os.fsdecode(_bytes(matched[2]))

    def _path(self, arguments: str) -> str:
        """The one path that a call is about: its string, or its descriptor where it has none."""
        strings = [one for one in _STRING.findall(arguments.partition("{")[0]) if one]
        return self._paths(arguments.partition("{")[0])[0] if strings else self._descriptor(arguments)

    def _paths(self, arguments: str, skip: int = 0) -> list[str]:
        """The absolute paths that a call names, each relative to the descriptor before it, if there is one."""
        found: list[str] = []
        at = os.getcwd()
        for matched in re.finditer(r'(?:AT_FDCWD|\d+)<((?:\\x[0-9a-f]{2})*)>|"((?:\\x[0-9a-f]{2})*)"', arguments):
            if matched[2] is None:
                at = os.fsdecode(_bytes(matched[1]))
            elif skip:
                skip -= 1
            else:
                found.append(self._real(os.path.normpath(os.path.join(at, os.fsdecode(_bytes(matched[2]))))))
        return found

    def _real(self, path: str) -> str:
        """The path of what was reached through a descriptor."""
        through = re.match(r"/proc/self/fd/(\d+)(?=/|$)", path)
        return self._open_as[through[1]] + path[through.end() :] if through else path


_MASK = 0o022
"""What the tracer's command takes from the modes that it asks for; it is set so when it is run."""
