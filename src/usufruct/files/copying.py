"""Copies that are complete, compared and durable before they get their name. Files are copied only here."""

import errno
import os
import shutil
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from blake3 import blake3

from usufruct.errors import DiffersFromRecord
from usufruct.files.attributes import CANNOT, set_mode, set_times
from usufruct.files.looking import BLOCK, digest_of
from usufruct.files.platform import Platform
from usufruct.files.private import make_private

_PARTIAL = ".usufruct-"
_PARTIAL_MODE = 0o600
"""Nobody else reads what is not finished, whatever the original allows."""
_SPECIAL = stat.S_ISUID | stat.S_ISGID


def copy_whole(
    source: str,
    destination: str,
    platform: Platform,
    *,
    digest: bytes = b"",
    replaces: bool = False,
    partial: str = "",
    durable: bool = True,
    names_later: bool = False,
) -> bytes:
    """Copy a file or link with its mode and times to a new name; return the BLAKE3 digest of its content.

    The name appears after the content was read back and compared. `digest`: what the content must be. `replaces`: the
    name may exist. `partial`: where the copy is written; it may be the destination itself if nobody relies on that yet.
    `durable`: the content is durable before it gets its name, and so is the name afterwards; otherwise the caller takes
    care of both, and with `names_later` of the name. Raises DiffersFromRecord if the content is different,
    FileExistsError if the name exists; nothing is left then.
    """
    directory = os.path.dirname(destination)
    growing = partial or f"{directory}/{_PARTIAL}{os.urandom(6).hex()}.partial"
    with _removed_on_error(growing, platform):
        if os.path.islink(source) and not digest:
            os.symlink(os.readlink(source), growing)
            found = b""
        else:
            found = _copied(source, growing)
            if digest_of(growing) != found or (digest and digest != found):
                raise DiffersFromRecord(
                    f"{source} is not what it should be, or changed while it was copied to {directory}.",
                    remedy="Close the program that writes it and check the drives; then try again.",
                    path=source,
                )
        _attributes_like(source, growing)
        if found and durable:
            platform.sync_file(growing)
        if replaces:
            platform.replace(growing, destination)
        elif growing != destination:
            platform.rename_new(growing, destination)
    if durable and not names_later:
        platform.sync_names([directory])
    return found


def _attributes_like(source: str, copy: str) -> None:
    """Give a copy the attributes of its original: owner and group if allowed, mode, times, extended attributes."""
    found = os.lstat(source)
    if hasattr(os, "chown"):
        with suppress(OSError):
            os.chown(copy, found.st_uid, found.st_gid, follow_symlinks=False)
    try:
        shutil.copystat(source, copy, follow_symlinks=False)
    except OSError as error:
        # Attributes that the copy's file system cannot keep are lost; the content is not.
        if error.errno not in CANNOT:
            raise
        set_times(copy, found.st_atime_ns, found.st_mtime_ns, follow_symlinks=not stat.S_ISLNK(found.st_mode))
    now = os.lstat(copy)
    if found.st_mode & _SPECIAL and (now.st_uid, now.st_gid) != (found.st_uid, found.st_gid):
        # A setuid file must not come to run as another user.
        set_mode(copy, stat.S_IMODE(found.st_mode) & ~_SPECIAL)


def _copied(source: str, growing: str) -> bytes:
    digest = blake3()
    binary = getattr(os, "O_BINARY", 0)
    try:
        reading = os.open(source, os.O_RDONLY | binary | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0))
    except OSError as error:
        if error.errno == errno.ELOOP:
            raise _no_file(source) from error
        raise
    try:
        if not stat.S_ISREG(os.fstat(reading).st_mode):
            raise _no_file(source)
        writing = os.open(growing, os.O_CREAT | os.O_EXCL | os.O_WRONLY | binary, _PARTIAL_MODE)
        try:
            while block := os.read(reading, BLOCK):
                digest.update(block)
                view = memoryview(block)
                while view:
                    view = view[os.write(writing, view) :]
        finally:
            os.close(writing)
    finally:
        os.close(reading)
    return digest.digest()


def _no_file(source: str) -> DiffersFromRecord:
    return DiffersFromRecord(f"{source} is no file any more.", remedy="See what became of it.", path=source)


@contextmanager
def _removed_on_error(path: str, platform: Platform) -> Iterator[None]:
    try:
        yield
    except BaseException:
        with suppress(OSError):
            platform.unlink(path)
        raise


def replace_text(path: Path, text: str, platform: Platform, *, mode: int | None = None) -> None:
    """Replace a file by a text; after a power cut it is the old one or the new one.

    `mode`: of the file; None leaves it to the user's mask. Missing directories are created.
    """
    make_private(path.parent)
    if path.is_symlink():
        # A link to settings that are kept elsewhere stays a link.
        path = path.resolve()
    growing = path.with_name(f"{path.name}.new")
    with _removed_on_error(str(growing), platform):
        growing.write_text(text, encoding="utf-8")
        if mode is not None:
            set_mode(str(growing), mode)
        elif path.exists():
            set_mode(str(growing), stat.S_IMODE(path.stat().st_mode))
        platform.sync_file(str(growing))
        platform.replace(str(growing), str(path))
    platform.sync_names([str(path.parent)])
