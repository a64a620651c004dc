"""Remember what was found out about downloads, until they or the definitions that matter for them change."""

import os
import zlib
from array import array
from base64 import b64decode, b64encode
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from usufruct.actions.arrivals import Seen, SeenFile, key_of, seen_before
from usufruct.actions.download import Download
from usufruct.files.private import make_private
from usufruct.model.applications import Application
from usufruct.planning.candidates import Candidates, words_of
from usufruct.planning.tree import Tree

_MOST_WORDS = 4000
"""Words of one download that are remembered; one that says more is looked at anew with each change of a definition."""


def heed(seen: Seen, download: Download) -> None:
    """Note which applications had a say in a download, and by which words others could have."""
    seen.tried = sorted(download.tried)
    tree = Tree.of(download.archive.listing)
    words = words_of(tree, download.archive.name)
    # The content of archives inside is not known here.
    is_known = len(words) <= _MOST_WORDS and not tree.archives
    seen.words = b64encode(array("I", _numbers(words)).tobytes()).decode("ascii") if is_known else None


def _says_any(seen: Seen, words: frozenset[int]) -> bool:
    """Whether a download may contain any of these words."""
    if seen.words is None:
        return True
    try:
        return not words.isdisjoint(array("I", b64decode(seen.words)))
    except ValueError:
        return True  # another program wrote it


class SeenDownloads:
    """What is remembered, without what must be found out again because definitions have changed."""

    def __init__(self, file: Path, applications: Sequence[Application]) -> None:
        self._file = file
        self._used: dict[str, Seen] = {}
        now = {one.name: zlib.crc32(msgspec.msgpack.encode(one)) for one in applications}
        known = seen_before(file)
        changed = {name for name, _ in now.items() ^ known.applications.items()}
        self._is_new = bool(changed)
        self._kept = SeenFile(applications=now, downloads=known.downloads)
        if changed and known.downloads:
            come = Candidates([one for one in applications if one.name in changed]).words
            self._kept.downloads = {
                path: seen for path, seen in known.downloads.items() if not _is_touched(seen, changed, come)
            }

    def of(self, path: Path, size: int, modified: int) -> Seen | None:
        """Return what is known about a download with this size and time."""
        return self._kept.of(path, size, modified)

    def keep(self, path: Path, seen: Seen) -> None:
        """Remember a download."""
        self._is_new = self._is_new or self._kept.downloads.get(key_of(path)) is not seen
        self._used[key_of(path)] = seen

    def save(self) -> None:
        """Write what was used and is still there; what cannot be written is found out again."""
        if not self._is_new:
            return
        seen = self._kept.downloads
        others = {path: one for path, one in seen.items() if path not in self._used and os.path.lexists(path)}
        self._kept.downloads = others | self._used
        try:
            make_private(self._file.parent)
            beside = self._file.with_name(self._file.name + ".new")
            beside.write_bytes(msgspec.json.encode(self._kept))
            beside.replace(self._file)
        except OSError:
            return


def _is_touched(seen: Seen, changed: set[str], come: frozenset[str] | None) -> bool:
    """Whether a download may be for another application since definitions changed, which look for the words `come`."""
    if not changed.isdisjoint(seen.tried):
        return True
    return seen.words != "" and (come is None or _says_any(seen, frozenset(_numbers(come))))


def _numbers(words: Iterable[str]) -> list[int]:
    """Return a number for each word. If two words have one number, a download is looked at once too often."""
    return [zlib.crc32(word.encode("utf-8", "surrogatepass")) for word in words]
