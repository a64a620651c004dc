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

_PLACE = Path(__file__).parents[2] / ".sdists"
_FETCH = "pip download --no-deps --no-binary :all: -d .sdists rarfile"
_LATER = re.compile(r"\.part0*([2-9]|\d\d+)\.rar$|\.r\d\d$")
_LEAST = 40
"""Archives that it carries, at least."""
_PACKED = ("rar15-comment.rar", "rar202-comment-psw.rar", "rar3-solid.rar", "rar5-solid-qo.rar", "rar5-hpsw.rar")
"""Of each generation one whose members are packed, locked or both."""


def _sdist() -> Path | None:
    return next(iter(sorted(_PLACE.glob("rarfile-*.tar.gz"))), None)


@unittest.skipUnless(_sdist(), f"the source distribution with real archives is not here; `{_FETCH}` fetches it")
class RealTest(unittest.TestCase):
    def test_each_is_read_whole_with_and_without_the_library_and_every_checksum_holds(self) -> None:
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
            self.assertLessEqual(set(_PACKED), {path.name for path in archives})
            for path in archives:
                with self.subTest(path.name):
                    found = []
                    for version in (None, unpacking.library_version()):
                        with mock.patch.object(unpacking, "library_version", lambda version=version: version):
                            opened = open_archive(path, access("password"))
                            try:
                                found.append(contents(opened))
                            finally:
                                opened.close()
                    self.assertEqual(found[0], found[1])


if __name__ == "__main__":
    unittest.main()
