"""Archives that come as a stream: piped in, from a process, from a pipe with a name; and streams that give nothing."""

import json
import os
import subprocess
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from tests.support import WorldTest, program, run_program, zip_bytes
from usufruct.actions import streams
from usufruct.errors import MachineError

CONTENT = zip_bytes({"Gels/moon.gel": b"pale", "Gels/sun.gel": b"gold"})


class StreamsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.world.folder / "downloads"
        self.home = self.world.folder / "state"
        self.target = self.world.folder / "target"
        self.target.mkdir()

    def fed(self, *words: str, content: bytes = CONTENT, code: int = 0) -> str:
        """What a command says that is given bytes on standard input."""
        done = subprocess.run(
            [*program(), *words],
            input=content,
            capture_output=True,
            cwd=self.folder,
            env={**os.environ, "USUFRUCT_HOME": str(self.home), "COLUMNS": "100"},
            check=False,
        )
        said = (done.stdout + done.stderr).decode()
        self.assertEqual(done.returncode, code, said)
        self.assertNotIn("Traceback", said)
        self.assertEqual(list((self.home / "spool").glob("received-*")), [], "it is gone when the command ends")
        return said

    def test_standard_input_is_looked_at_read_and_verified(self) -> None:
        for word in ("-", "/dev/stdin"):
            self.assertIn("standard input  zip · 2 entries", self.fed("look", "--to", "x", word))
        self.assertIn("every checksum holds", self.fed("look", "--verify", "-"))
        self.assertIn("pale", self.fed("look", "--read", "moon.gel", "-"))

    def test_it_is_added_kept_in_the_store_and_repaired_from_there(self) -> None:
        to = ("--to", str(self.target))
        self.assertIn("--as NAME", self.fed("add", *to, "-", code=2))
        self.assertIn("archives/moons", self.fed("add", *to, "--as", "moons", "-"))
        placed = self.target / "Gels" / "moon.gel"
        self.assertEqual(placed.read_bytes(), b"pale")
        placed.unlink()
        done = run_program("repair", "moons", home=self.home)
        self.assertEqual((done.returncode, placed.read_bytes()), (0, b"pale"), done.stderr)
        self.assertIn("Removed", run_program("remove", "moons", home=self.home).stdout)
        self.assertEqual(list(self.target.iterdir()), [])

    def test_the_command_that_answers_a_question_reads_the_stream_again(self) -> None:
        self.fed("add", "--to", str(self.target), "--as", "earlier", "-")
        other = zip_bytes({"Gels/moon.gel": b"full", "Gels/sun.gel": b"red"})
        said = self.fed("add", "--to", str(self.target), "--as", "moons", "-", content=other, code=3)
        self.assertIn("usufruct add - --to", said)
        self.assertNotIn("received-", said)

    def wait_until_taken(self, descriptor: int) -> None:
        import fcntl
        import termios

        waits = bytearray(4)
        for _ in range(3000):
            fcntl.ioctl(descriptor, termios.FIONREAD, waits)
            if not any(waits):
                return
            time.sleep(0.01)

    @unittest.skipUnless(hasattr(os, "mkfifo"), "needs pipes with names")
    def test_a_pipe_is_read_while_somebody_writes_and_refused_at_once_where_nobody_does(self) -> None:
        pipe = self.folder / "owls.zip"
        os.mkfifo(pipe)
        done = run_program("look", "owls.zip", home=self.home, cwd=self.folder)
        self.assertEqual(done.returncode, 4)
        self.assertIn("Nothing came from owls.zip", done.stderr)
        # Opened for both, so that the writer is there before the reader; it writes in two goes.
        descriptor = os.open(pipe, os.O_RDWR)
        running = subprocess.Popen(
            [*program(), "look", "--json", "--to", "x", "owls.zip"],
            cwd=self.folder,
            env={**os.environ, "USUFRUCT_HOME": str(self.home)},
            stdout=subprocess.PIPE,
        )

        def write() -> None:
            os.write(descriptor, CONTENT[:100])
            self.wait_until_taken(descriptor)
            os.write(descriptor, CONTENT[100:])
            self.wait_until_taken(descriptor)
            os.close(descriptor)

        writer = threading.Thread(target=write)
        writer.start()
        said, _ = running.communicate(timeout=30)
        writer.join()
        self.assertEqual(running.returncode, 0)
        self.assertEqual(json.loads(said)["archives"][0]["format"], "zip")

    def test_nothing_and_what_is_no_archive_are_told(self) -> None:
        self.assertIn("Nothing came from standard input", self.fed("look", "-", content=b"", code=4))
        self.assertIn("standard input", self.fed("look", "-", content=b"\x89PNG\r\n\x1a\n" + bytes(99), code=3))

    def test_a_stream_without_an_end_leaves_room_on_the_disk(self) -> None:
        read, write = os.pipe()
        os.write(write, bytes(5000))
        os.close(write)
        with (
            mock.patch.object(streams.shutil, "disk_usage", lambda _: mock.Mock(free=100)),
            self.assertRaisesRegex(MachineError, "would fill the disk"),
        ):
            streams._copy(read, Path(self.folder) / "x", "a stream")
        os.close(read)


if __name__ == "__main__":
    unittest.main()
