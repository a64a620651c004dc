"""A drive that can be pulled out: a real one where this machine lets us mount, else one that is known by a mark."""

import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from unittest import mock

from msgspec.structs import replace

from tests.support import IN_MEMORY, World
from tests.systems import current
from usufruct.files.state_paths import StatePaths

CAN_MOUNT = not current() and sys.platform == "linux" and os.geteuid() == 0 and shutil.which("mkfs.ext4")
"""What is mounted here has the name that this system gives it, not the one that a simulated system would."""


class MarkedDrive:
    """A folder that stands for a drive, told from others by a file in it; pulled out, an empty folder stays."""

    def __init__(self, world: World, mount: Path, cleanup: Callable[..., object]) -> None:
        self.mount, self._drawer = mount, world.folder / "drawer"
        (mount / ".drive").write_text("first")
        world.platform = replace(world.platform, identity_of_drive=self._identity)
        patch = mock.patch("usufruct.survey.drives.mount_point", self._mount_point)
        patch.start()
        cleanup(patch.stop)
        places = mock.patch("usufruct.survey.drives.mounts", list)
        places.start()
        cleanup(places.stop)

    def _marked(self, path: str) -> Path | None:
        steps = [Path(path), *Path(path).parents]
        return next((step for step in steps if (step / ".drive").exists()), None)

    def _identity(self, path: str) -> str:
        top = self._marked(path)
        return f"drive:{(top / '.drive').read_text()}" if top else "disk"

    def _mount_point(self, path: str) -> str:
        return str(self._marked(path) or "/")

    def pull_out(self) -> None:
        with same_time(self.mount.parent):
            self.mount.rename(self._drawer)
            self.mount.mkdir()

    def plug_in(self, at: Path | None = None) -> None:
        at = at or self.mount
        with same_time(at.parent):
            if at.exists():
                at.rmdir()
            self._drawer.rename(at)

    def another(self) -> None:
        """Another drive is in its place."""
        (self.mount / ".drive").write_text("second")

    def not_another(self) -> None:
        (self.mount / ".drive").unlink()


@contextmanager
def same_time(directory: Path) -> Iterator[None]:
    """To mount something is no change of the directory that the mount point is in."""
    found = directory.stat()
    try:
        yield
    finally:
        os.utime(directory, ns=(found.st_atime_ns, found.st_mtime_ns))


class MountedDrive:
    """A file system of its own, in an image file, mounted where the drive is."""

    def __init__(self, world: World, mount: Path, cleanup: Callable[..., object]) -> None:
        self.mount = mount
        self._image, self._second = world.folder / "first.img", world.folder / "second.img"
        self._at = mount
        for image in (self._image, self._second):
            with image.open("wb") as file:
                file.truncate(64 << 20)
            subprocess.run(["mkfs.ext4", "-q", "-F", image], check=True, capture_output=True)
        cleanup(lambda: [subprocess.run(["umount", "-l", at], capture_output=True) for at in (mount, self._at)])
        self._mount(self._image, mount)

    def _mount(self, image: Path, at: Path) -> None:
        subprocess.run(["mount", "-o", "loop", image, at], check=True, capture_output=True)
        lost = at / "lost+found"
        if lost.is_dir():
            lost.rmdir()

    def pull_out(self) -> None:
        subprocess.run(["umount", "-l", self._at], check=True, capture_output=True)

    def plug_in(self, at: Path | None = None) -> None:
        self._at = at or self.mount
        self._at.mkdir(exist_ok=True)
        self._mount(self._image, self._at)

    def another(self) -> None:
        self._mount(self._second, self.mount)

    def not_another(self) -> None:
        subprocess.run(["umount", "-l", self.mount], check=True, capture_output=True)


Drive = MarkedDrive | MountedDrive


def drives() -> list[type[Drive]]:
    """The kinds of drive that there can be on this machine."""
    return [MarkedDrive, MountedDrive] if CAN_MOUNT else [MarkedDrive]


def with_drive(world: World, kind: type[Drive], cleanup: Callable[..., object]) -> Drive:
    """Let Lanternbox's folder be a drive, and the record be on another volume than that."""
    if IN_MEMORY and os.stat(IN_MEMORY).st_dev == os.stat(world.folder).st_dev:
        other = tempfile.mkdtemp(prefix="usufruct-state-")
        cleanup(shutil.rmtree, other, ignore_errors=True)
        world.paths = StatePaths(Path(other), Path(other))
    return kind(world, world.lanternbox, cleanup)
