"""Anything may lie where a text of the user's or of ours belongs: it is told, stands aside, and all else works."""

import os
import signal
import threading
import unittest
from collections.abc import Callable
from pathlib import Path

from tests.support import WorldTest, run_program
from usufruct.actions.applications import known_applications
from usufruct.actions.context import Context
from usufruct.actions.desktop import turn_off
from usufruct.actions.passwords import known_passwords
from usufruct.actions.refresh import is_agreed
from usufruct.actions.seen_downloads import SeenDownloads
from usufruct.actions.whose import shares_of
from usufruct.errors import MachineError, UsufructError, WrongUsage

_SECONDS = 20
"""More than any of this takes, and less than it took."""


def _pipe(path: Path) -> None:
    os.mkfifo(path)


def _endless(path: Path) -> None:
    path.symlink_to("/dev/zero")


def _huge(path: Path) -> None:
    with path.open("wb") as file:
        file.truncate(1 << 32)


def _nested(path: Path) -> None:
    path.write_text(("a = " if path.suffix != ".json" else "") + "[" * 100_000)


def _dotted(path: Path) -> None:
    path.write_text("a." * 30_000 + "a = 1")


def _spaced(path: Path) -> None:
    path.write_text("a . " * 15_000 + "a = 1")


def _no_text(path: Path) -> None:
    path.write_bytes(b"\xff\xfe\x00")


@unittest.skipUnless(hasattr(os, "mkfifo") and hasattr(signal, "SIGALRM"), "there are no pipes with names here")
class OddRecordsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()
        self.faults: list[UsufructError] = []
        paths = self.world.paths
        self.context = Context(paths=paths, on_fault=self.faults.append)
        # Whatever waits for ever fails instead.
        signal.signal(signal.SIGALRM, signal.default_int_handler)
        signal.alarm(_SECONDS)
        self.addCleanup(signal.alarm, 0)

    def each(self, path: Path, make: tuple[Callable[[Path], None], ...], read: Callable[[], object]) -> None:
        """Read with each of these things at a path."""
        for one in make:
            with self.subTest(path=path.name, what=one.__name__):
                path.unlink(missing_ok=True)
                one(path)
                self.faults.clear()
                read()
        path.unlink(missing_ok=True)

    def test_definitions(self) -> None:
        odd = (_pipe, _endless, _huge, _nested, _dotted, _spaced, _no_text)

        def read() -> None:
            self.assertTrue({"lanternbox", "weftline"} <= {one.name for one in known_applications(self.context)})
            self.assertEqual([Path(fault.path).name for fault in self.faults], ["odd.toml"])

        self.each(self.world.paths.apps / "odd.toml", odd, read)

    def test_settings(self) -> None:
        def read() -> None:
            self.assertEqual(self.context.settings().afterwards, "keep")
            self.assertEqual(len(self.faults), 1)

        self.each(self.world.paths.settings, (_pipe, _endless, _huge, _nested, _dotted, _no_text), read)

    def test_passwords(self) -> None:
        def read() -> None:
            known_passwords(self.world.paths, None, None, self.faults.append)
            self.assertEqual(len(self.faults), 1)

        self.each(self.world.paths.passwords, (_pipe, _endless, _huge, _no_text), read)

    def test_what_we_remember(self) -> None:
        paths, odd = self.world.paths, (_pipe, _endless, _huge, _nested, _no_text)
        (application,) = (one for one in known_applications(self.context) if one.name == "lanternbox")
        self.each(paths.agreed, odd, lambda: self.assertFalse(is_agreed(self.context, application)))
        self.each(paths.data / "desktop.json", odd, lambda: turn_off(self.context))
        seen = paths.data / "downloads.json"
        self.each(seen, odd, lambda: self.assertIsNone(SeenDownloads(seen, [application]).of(Path("x"), 1, 1)))
        self.each(paths.data / "definitions", odd, lambda: known_applications(self.context))

    def test_a_pipe_of_passwords_serves_where_somebody_writes_into_it(self) -> None:
        pipe = self.world.folder / "pipe"
        _pipe(pipe)
        writing = threading.Timer(0.1, lambda: pipe.write_text("first\nsecond\n"))
        writing.daemon = True
        writing.start()
        passwords = known_passwords(self.world.paths, pipe, None, self.faults.append)
        writing.join()
        self.assertEqual(passwords.first_fitting("x", lambda word: word == "second"), "second")
        with self.assertRaisesRegex(MachineError, "it is no file"):
            known_passwords(self.world.paths, Path("/dev/zero"), None, self.faults.append)

    def test_a_home_of_nobody_is_no_folder(self) -> None:
        home = self.world.paths.data
        told = run_program("settings", "set", "downloads", "~nobody-of-that-name/x", home=home)
        self.assertEqual(told.returncode, WrongUsage.exit_code)
        self.assertIn("no user called nobody-of-that-name", told.stderr)
        (home / "settings.toml").write_text('store = "~nobody-of-that-name/x"')
        listed = run_program("list", home=home)
        self.assertEqual((listed.returncode, "Traceback" in listed.stderr), (0, False))

    def test_a_name_that_is_no_text_is_a_download_like_any_other(self) -> None:
        pack = self.world.archive("pack.zip", {"gels/moon.gel": "theirs"})
        odd = os.fsencode(pack.parent) + b"/b\xe9d.zip"
        os.link(pack, odd)
        for _ in range(2):
            around = {"home": self.world.paths.data, "USUFRUCT_DOWNLOADS": str(pack.parent)}
            listed = run_program("downloads", "--json", **around)
            self.assertEqual((listed.returncode, listed.stdout.count('"new"')), (0, 2), listed.stderr)
        # Nor does a link that leads to itself keep the others from being seen.
        (pack.parent / "loop.zip").symlink_to("loop.zip")
        self.assertEqual(run_program("downloads", "--json", **around).stdout.count('"new"'), 2)

    def test_a_folder_that_cannot_be_listed_is_told(self) -> None:
        with self.assertRaisesRegex(MachineError, "pack.zip cannot be read: Not a directory"):
            shares_of(self.world.context, self.world.archive("pack.zip", {"gels/moon.gel": "theirs"}))


if __name__ == "__main__":
    unittest.main()
