"""What the tests share: small archives, worlds in temporary folders, trees as dictionaries."""

import io
import logging
import os
import subprocess
import sys
import sysconfig
import tarfile
import tempfile
import unittest
import zipfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from unittest import mock

from tests.warm import can_run_warm, run_warm
from usufruct.actions.adding import Added, add_archives
from usufruct.actions.context import Context
from usufruct.actions.demonstration import Tree, tree_of
from usufruct.actions.removing import HoldingRemoved, remove_holdings
from usufruct.actions.request import Request
from usufruct.definitions.load import load_application
from usufruct.files.locking import only_writer
from usufruct.files.platform import Platform, this_platform
from usufruct.files.state_paths import StatePaths
from usufruct.model.applications import Application
from usufruct.model.choices import Choices, OnClash
from usufruct.transaction.work import no_checkpoint

logging.getLogger("usufruct").addHandler(logging.NullHandler())
SAMPLES = Path(__file__).parent.parent / "src" / "usufruct" / "samples"
DOWNLOADS = SAMPLES / "downloads"

Files = Mapping[str, str | bytes]


@contextmanager
def no_trash() -> Iterator[None]:
    """While inside, nothing can be put into the desktop's trash."""
    with (
        mock.patch("send2trash.send2trash", side_effect=OSError("no trash here")),
        mock.patch.dict(os.environ, {"XDG_DATA_HOME": os.devnull}),
    ):
        yield


def as_bytes(content: str | bytes) -> bytes:
    return content if isinstance(content, bytes) else content.encode()


def zip_bytes(files: Files, *, compression: int = zipfile.ZIP_DEFLATED, mode: int = 0o644) -> bytes:
    """A zip; a name that ends with `/` is a directory, a value that begins with `->` a link."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", compression) as archive:
        for name, content in files.items():
            info = zipfile.ZipInfo(name, (2024, 5, 6, 7, 8, 10))
            info.compress_type = compression
            info.create_system = 3
            data = as_bytes(content)
            if data.startswith(b"->"):
                info.external_attr = 0o120777 << 16
                data = data[2:]
            elif not name.endswith("/"):
                info.external_attr = (0o100000 | mode) << 16
            archive.writestr(info, data)
    return buffer.getvalue()


def tar_bytes(files: Files, mode: str = "w") -> bytes:
    """A tar; `->target` is a symbolic link, `=>target` a hard link, a name that ends with `/` a directory."""
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode=mode) as archive:  # type: ignore[call-overload]
        for name, content in files.items():
            info = tarfile.TarInfo(name.rstrip("/"))
            info.mtime = 1_700_000_000
            data = as_bytes(content)
            if name.endswith("/"):
                info.type, data = tarfile.DIRTYPE, b""
            elif data.startswith((b"->", b"=>")):
                info.type = tarfile.SYMTYPE if data[:1] == b"-" else tarfile.LNKTYPE
                info.linkname, data = data[2:].decode(), b""
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return buffer.getvalue()


def sample_application(name: str, root: str = "/world") -> Application:
    """One of the sample applications with its root below `root`."""
    from msgspec.structs import replace

    application = load_application(SAMPLES / "apps" / f"{name}.toml")
    return replace(application, root=f"{root}/{Path(application.root).name}")


class World:
    """A temporary folder with the three sample applications, and Usufruct's own places beside them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.paths = StatePaths(folder / "state", folder / "state")
        self.platform: Platform = this_platform()
        self.checkpoint: Callable[[str], None] = no_checkpoint
        self.lanternbox = folder / "apps" / "Lanternbox"
        for name in ("Lanternbox", "Weftline", "Tidebook"):
            (folder / "apps" / name).mkdir(parents=True, exist_ok=True)
        self.applications = tuple(
            sample_application(name, str(folder / "apps")) for name in ("lanternbox", "weftline", "tidebook")
        )
        (folder / "downloads").mkdir(exist_ok=True)

    @property
    def context(self) -> Context:
        return Context(paths=self.paths, platform=self.platform, checkpoint=self.checkpoint)

    def context_with_definitions(self) -> Context:
        """The same, with the sample definitions written where commands look for them."""
        apps = self.paths.apps
        if not apps.is_dir():
            apps.mkdir(parents=True)
            for file in (SAMPLES / "apps").iterdir():
                text = file.read_text(encoding="utf-8").replace("~/", f"{self.folder.as_posix()}/apps/")
                (apps / file.name).write_text(text, encoding="utf-8")
        return self.context

    def write(self, files: Files, below: Path | None = None) -> None:
        """Files of the user's, below Lanternbox's folder unless said otherwise, with a time long ago."""
        for name, content in files.items():
            path = (below or self.lanternbox) / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(as_bytes(content))
            os.utime(path, ns=(10**18, 10**18 + 123_456_789))

    def archive(self, name: str, files: Files) -> Path:
        """A zip or tar in the downloads folder."""
        path = self.folder / "downloads" / name
        modes = {".tar": "w", ".gz": "w:gz", ".bz2": "w:bz2", ".xz": "w:xz"}
        path.write_bytes(tar_bytes(files, modes[path.suffix]) if path.suffix in modes else zip_bytes(files))
        return path

    def request(
        self, *, to: str | None = None, name: str | None = None, update: str | None = None, **choices: object
    ) -> Request:
        applications = () if to else self.applications
        if "on_clash" in choices:
            choices["on_clash"] = OnClash(choices["on_clash"])
        made = Choices(**choices)  # type: ignore[arg-type]
        return Request(applications=applications, to=to, name=name, update=update, choices=made)

    def add(self, archive: Path, **options: object) -> Added:
        request = self.request(**options)  # type: ignore[arg-type]
        return add_archives(self.context, [archive], request, lambda _: None)[0]

    def add_files(self, archive_name: str, files: Files, **options: object) -> Added:
        """Pack, add, and insist that it worked."""
        added = self.add(self.archive(archive_name, files), **options)  # type: ignore[arg-type]
        if added.state != "added":
            raise AssertionError(f"{archive_name}: {added.state}: {added.error}")
        return added

    def remove(self, *names: str) -> list[HoldingRemoved]:
        return remove_holdings(self.context, names, lambda _: None)

    def tree(self) -> Tree:
        """All applications' folders: every path with content, mode and time."""
        return tree_of(self.folder / "apps")

    def contents(self, below: Path | None = None) -> dict[str, str]:
        """The files of a folder, Lanternbox's unless said otherwise, by relative path."""
        top = below or self.lanternbox
        return {
            path.relative_to(top).as_posix(): path.read_text(errors="replace")
            for path in sorted(top.rglob("*"))
            if path.is_file()
        }

    def strays(self) -> list[str]:
        """Staging directories that were left anywhere in the world."""
        return [str(path) for path in self.folder.rglob(".usufruct-*")]


IN_MEMORY = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
"""A file system without a disk, where there is one: thousands of changes wait for nothing there."""


class WorldTest(unittest.TestCase):
    """A test with a world of its own."""

    where: str | None = IN_MEMORY
    """The directory that the world's folder is in; None: the usual one, on a disk."""

    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory(prefix="usufruct-test-", dir=self.where)
        self.addCleanup(passing.cleanup)
        self.world = World(Path(passing.name).resolve())
        self.addCleanup(self.rest)

    def rest(self) -> None:
        """Return once nothing goes on behind a command any more."""
        if self.world.paths.lock.exists():
            with only_writer(self.world.paths.lock, "rest", patience=60):
                pass


def program() -> list[str]:
    """The installed console command."""
    for name in ("usufruct", "usufruct.exe"):
        script = Path(sysconfig.get_path("scripts"), name)
        if script.exists():
            return [str(script)]
    return [sys.executable, "-m", "usufruct"]


def run_program(
    *words: str, home: Path, cwd: Path | None = None, **environment: str
) -> "subprocess.CompletedProcess[str]":
    """Run the installed program as a user would, without a terminal."""
    around = {**os.environ, "USUFRUCT_HOME": str(home), "COLUMNS": "100", **environment}
    if can_run_warm(environment):
        return run_warm(list(words), str(cwd or Path.cwd()), around)
    return subprocess.run(
        [*program(), *words],
        cwd=cwd,
        env=around,
        capture_output=True,
        text=True,
        check=False,
        stdin=subprocess.DEVNULL,
        encoding="utf-8",
    )
