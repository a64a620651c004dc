"""Archives that the program of each generation wrote, where a common package's source distribution is at hand."""

import re
import tarfile
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tests.archives.case import access, contents
from usufruct.archives.opening import open_archive
from usufruct.archives.rar import unpacking
from usufruct.errors import UnreadableArchive

_PLACE = Path(__file__).parents[2] / ".sdists"
_FETCH = "pip download --no-deps --no-binary :all: -d .sdists rarfile"
_LATER = re.compile(r"\.part0*([2-9]|\d\d+)\.rar$|\.r\d\d$")
_LEAST = 40
"""Archives that it carries, at least."""
_OLD = {"rar15-comment.rar", "rar15-comment-lock.rar", "rar202-comment-psw.rar", "rar2-unix-owner.rar"}
"""Those that generations packed or locked which are no longer read."""
_PACKED = ("rar3-solid.rar", "rar5-solid-qo.rar", "rar5-hpsw.rar")
"""Of each generation one whose members are packed, locked or both."""


def _sdist() -> Path | None:
    return next(iter(sorted(_PLACE.glob("rarfile-*.tar.gz"))), None)


@unittest.skipUnless(_sdist(), f"the source distribution with real archives is not here; `{_FETCH}` fetches it")
class RealTest(unittest.TestCase):
    def test_each_of_rar_3_to_5_is_read_whole_and_older_ones_as_far_as_they_are_stored(self) -> None:
        sdist = _sdist()
        assert sdist
        with tempfile.TemporaryDirectory() as passing:
            folder = Path(passing)
            with tarfile.open(sdist) as archive:
                for member in archive:
                    name = Path(member.name).name
                    if member.isfile() and "/test/files/" in member.name and re.search(r"\.(rar|r\d\d)$", name):
                        content = archive.extractfile(member)
                        assert content
                        (folder / name).write_bytes(content.read())
            archives = sorted(path for path in folder.iterdir() if not _LATER.search(path.name))
            self.assertGreater(len(archives), _LEAST)
            self.assertLessEqual({*_PACKED, *_OLD}, {path.name for path in archives})
            for path in archives:
                with self.subTest(path.name):
                    opened = open_archive(path, access("password"))
                    try:
                        if path.name in _OLD:
                            with self.assertRaisesRegex(UnreadableArchive, "no longer read"):
                                contents(opened)
                        else:
                            found = contents(opened)
                            with mock.patch.object(unpacking, "library_version", lambda: None):
                                self.assertEqual(contents(opened), found)
                    finally:
                        opened.close()


if __name__ == "__main__":
    unittest.main()
