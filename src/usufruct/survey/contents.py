"""Find out whether a destination already has an entry's content."""

import os
import zlib

from usufruct.archives.reading import Archive, digests_of
from usufruct.errors import PasswordNeeded
from usufruct.files.looking import BLOCK, digest_of
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout
from usufruct.model.snapshot import Snapshot
from usufruct.planning.conflicts import may_be_same
from usufruct.planning.junk import HEAD, begins_program


def rows_already_there(archive: Archive, layout: Layout, snapshot: Snapshot) -> set[int]:
    """Return the rows whose destination has the same size and, by checksum or content, the same bytes.

    If the archive has a checksum, the entry need not be unpacked. Digests are compared when files are staged, before
    anything depends on it.
    """
    same: set[int] = set()
    unstated: list[tuple[int, str]] = []
    for row, path in may_be_same(layout, snapshot):
        checksum = layout.listing.checksum(row)
        if checksum is None:
            unstated.append((row, path))
        elif checksum_of(path) == checksum:
            same.add(row)
    if unstated:
        digests = digests_of(archive, [row for row, _ in unstated])
        same.update(row for row, path in unstated if digests[row] == digest_of(path))
    return same


def programs_among(archive: Archive, rows: list[int]) -> set[int]:
    """Return the rows with the content of a program; none of those that cannot be read without a password."""
    found = set()
    try:
        for row, blocks in archive.stream(rows):
            head = b""
            for block in blocks:
                # The packer decides how short the first block is.
                head += block[: HEAD - len(head)]
            if begins_program(head):
                found.add(row)
    except PasswordNeeded:
        return set()
    return found


def idle_entries_among(archive: Archive, rows: list[int]) -> set[int]:
    """Return the rows with desktop entries that start nothing, because they have no `Exec`.

    This is the format of the freedesktop.org Desktop Entry Specification, in which themes have their descriptions.
    """
    found = set()
    try:
        for row, blocks in archive.stream(rows):
            lines = b"".join(blocks).splitlines()
            if not any(line.lstrip().startswith((b"Exec", b"TryExec", b"URL")) for line in lines):
                found.add(row)
    except PasswordNeeded:
        return set()
    return found


def checksum_of(path: str) -> int:
    """Return the CRC-32 of a file's content, which is read in blocks."""
    checksum = 0
    with open(path, "rb", buffering=0) as file:
        while block := file.read(BLOCK):
            checksum = zlib.crc32(block, checksum)
    return checksum


def rows_installed(archive: Archive, layout: Layout, root: str) -> dict[int, str]:
    """Return the rows whose content is where the folder says that it may be installed, with that file's path.

    The application's own directory counts too, but not the destination itself.
    """
    if not any(home.folder and home.folder.installed for home in layout.homes):
        return {}
    wanted: dict[tuple[str, ...], list[int]] = {}
    listing = layout.listing
    for row in layout.placed_rows():
        folder = layout.homes[layout.home_of[row]].folder
        if folder and folder.installed and listing.kinds[row] == EntryKind.FILE:
            wanted.setdefault((*folder.installed, root), []).append(row)
    found: dict[int, str] = {}
    for directories, rows in wanted.items():
        sizes = {listing.sizes[row] for row in rows}
        by_size = _files_by_size(directories, sizes)
        suspects = [row for row in rows if listing.sizes[row] in by_size]
        if not suspects:
            continue
        digests = digests_of(archive, suspects)
        for row in suspects:
            own = f"{root}/{layout.homes[layout.home_of[row]].path}/{layout.name(row)}".replace("//", "/")
            for path in by_size[listing.sizes[row]]:
                if path != own and digest_of(path) == digests[row]:
                    found[row] = path
                    break
    return found


def _files_by_size(directories: tuple[str, ...], sizes: set[int]) -> dict[int, list[str]]:
    """Return the files below these directories that have one of these sizes."""
    found: dict[int, list[str]] = {}
    for top in directories:
        for directory, _, names in os.walk(top):
            for name in names:
                path = f"{directory}/{name}"
                try:
                    size = os.stat(path).st_size
                except OSError:
                    continue
                if size in sizes:
                    found.setdefault(size, []).append(path)
    return found
