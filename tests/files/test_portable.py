"""What only some systems have is called in few places, each with a reason: elsewhere it would end on Windows."""

import ast
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar

import usufruct

PACKAGE = Path(usufruct.__file__).parent
NOT_ON_WINDOWS = {
    "os": frozenset(
        """
        chown chroot ctermid fchdir fchmod fchown fdatasync fork forkpty fpathconf fstatvfs get_blocking getegid
        geteuid getgid getgroups getloadavg getpgid getpgrp getpriority getresuid getsid getuid getxattr initgroups
        kill killpg lchmod lchown listxattr lockf major minor mkfifo mknod nice openpty pathconf pipe2 plock
        posix_fadvise posix_fallocate posix_spawn pread preadv pwrite pwritev readv register_at_fork removexattr
        sched_getaffinity sched_yield sendfile set_blocking setegid seteuid setgid setgroups setpgid setpriority
        setsid setuid setxattr statvfs sync tcgetpgrp tcsetpgrp ttyname uname wait wait3 wait4 waitid waitpid writev
        O_ASYNC O_CLOEXEC O_DIRECTORY O_DSYNC O_NOATIME O_NOFOLLOW O_NONBLOCK O_PATH O_SYNC O_TMPFILE WNOHANG
        """.split()
    ),
    "select": frozenset("epoll kqueue poll select".split()),
    "signal": frozenset("SIGALRM SIGCHLD SIGHUP SIGKILL SIGPIPE SIGQUIT SIGSTOP SIGTSTP SIGUSR1 SIGWINCH".split()),
}
MODULES = frozenset("crypt curses fcntl grp nis pty pwd readline resource spwd syslog termios tty".split())
ALLOWED = {
    ("files/platform.py", "os.sync"): "asked for by hasattr",
    ("files/platform.py", "fcntl"): "of macOS' row alone",
    ("files/platform.py", "termios"): "of the rows of Linux and macOS",
    ("files/copying.py", "os.chown"): "asked for by hasattr",
    ("files/staging.py", "os.geteuid"): "asked for by hasattr, or of Linux' row alone",
    ("files/sources.py", "os.pread"): "asked for by hasattr",
    ("files/file_systems.py", "os.pathconf"): "its absence is answered",
    ("files/mounts.py", "os.statvfs"): "of Linux' row alone",
    ("files/locking.py", "fcntl"): "its absence is answered",
    ("files/reserve.py", "os.posix_fallocate"): "asked for by hasattr",
    ("files/locking.py", "os.O_NOFOLLOW"): "used where fcntl is there",
    ("files/locking.py", "os.fork"): "used where the platform can fork",
    ("files/locking.py", "os.setsid"): "used where the platform can fork",
    ("files/locking.py", "os.waitpid"): "used where the platform can fork",
    ("transaction/by_processes.py", "os.fork"): "used where the platform can fork",
    ("transaction/by_processes.py", "os.kill"): "used where the platform can fork",
    ("transaction/by_processes.py", "os.waitpid"): "used where the platform can fork",
    ("transaction/by_processes.py", "select.poll"): "used where the platform can fork",
    ("transaction/by_processes.py", "signal.SIGKILL"): "used where the platform can fork",
    ("files/small_texts.py", "select.select"): "a pipe without a wait is only opened where there are such pipes",
}
ASKS = {"sys.platform", "os.name", "platform.system"}
MAY_ASK = {"files/platform.py", "files/origin.py"}
"""Where it is asked which system this is; of the second, in what form the system keeps where a download is from."""


def used(path: Path) -> Iterator[str]:
    """Names of modules with an attribute, and imported modules, of one file."""
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
            yield f"{node.value.id}.{node.attr}"
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
            yield from (f"{node.module}.{alias.name}" for alias in node.names)


class PortableTest(unittest.TestCase):
    used: ClassVar[set[tuple[str, str]]]

    @classmethod
    def setUpClass(cls) -> None:
        cls.used = {
            (path.relative_to(PACKAGE).as_posix(), name) for path in PACKAGE.rglob("*.py") for name in used(path)
        }

    def test_what_windows_lacks_is_called_where_it_is_said_why(self) -> None:
        lacking = {f"{module}.{name}" for module, names in NOT_ON_WINDOWS.items() for name in names} | MODULES
        self.assertIn(("files/platform.py", "os.rename"), self.used)
        self.assertEqual({one for one in self.used if one[1] in lacking}, set(ALLOWED))

    def test_nothing_else_asks_which_system_it_runs_on(self) -> None:
        self.assertEqual({file for file, name in self.used if name in ASKS}, MAY_ASK)


if __name__ == "__main__":
    unittest.main()
