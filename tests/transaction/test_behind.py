"""What takes long to clear away goes on behind the command: nobody waits for it, and nothing depends on it."""

import os
import signal
import sqlite3
import threading
import time
from unittest import mock

from msgspec.structs import replace

from tests.support import WorldTest
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.removing import remove_holdings
from usufruct.ledger import Ledger

FILES = {f"gels/{number}.gel": str(number) for number in range(12)}


class BehindTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/1.gel": "mine"})
        self.before = self.world.tree()
        self.world.add_files("pack.zip", FILES)
        self.own = os.getpid()
        for name in ("_MANY", "_LARGE"):
            much = mock.patch(f"usufruct.transaction.tidying.{name}", 3)
            much.start()
            self.addCleanup(much.stop)

    def need_forks(self) -> None:
        if not self.world.platform.can_fork:
            self.skipTest("nothing goes on as two here")

    def left(self) -> list[str]:
        return [name for name in os.listdir(self.world.lanternbox.parent) if name.startswith(".usufruct-")]

    def remove(self) -> None:
        remove_holdings(self.world.context, ["pack"], lambda _: None)
        self.assertEqual(list(list_holdings(self.world.context)), [])
        self.assertEqual(self.world.contents(), {"Gels/1.gel": "mine"})

    def as_it_was(self) -> None:
        self.assertEqual((self.left(), self.world.strays()), ([], []))
        self.assertEqual([path for path in self.world.paths.backups.rglob("*") if path.is_file()], [])
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_the_command_is_over_before_and_the_next_one_waits_and_says_so(self) -> None:
        self.need_forks()
        go_on = self.world.folder / "go on"

        def wait(_: str) -> None:
            while os.getpid() != self.own and not go_on.exists():
                time.sleep(0.01)

        self.world.checkpoint = wait
        self.remove()
        self.assertEqual(len(self.left()), 1)
        told: list[str] = []
        context = replace(self.world.context, on_waiting=lambda: told.append("waiting") or go_on.touch())
        with context.writing("look after it"):
            self.as_it_was()
        self.assertEqual(told, ["waiting"])

    def test_where_it_is_killed_at_any_point_the_next_command_does_it(self) -> None:
        self.need_forks()
        for point in ("tidying", "staging-dropped", "backup-dropped", "tidied"):
            with self.subTest(point=point):

                def die(name: str, point: str = point) -> None:
                    if name == point and os.getpid() != self.own:
                        os.kill(os.getpid(), signal.SIGKILL)

                self.world.checkpoint = die
                self.remove()
                with self.world.context.writing("look after it"):
                    self.as_it_was()
                self.world.add_files("pack.zip", FILES)

    def test_where_it_cannot_it_is_done_before_the_command_is_over(self) -> None:
        refused = mock.patch("os.fork", side_effect=OSError(11, "Resource temporarily unavailable"), create=True)
        with refused:
            self.remove()
        self.as_it_was()
        self.world.add_files("pack.zip", FILES)
        until = threading.Event()
        other = threading.Thread(target=until.wait)
        other.start()
        try:
            self.remove()
            self.as_it_was()
        finally:
            until.set()
            other.join()

    def test_a_record_that_is_mostly_empty_is_written_anew_and_where_that_fails_all_goes_on(self) -> None:
        full = sqlite3.OperationalError("database or disk is full")
        refused = mock.patch("os.fork", side_effect=OSError(11, "Resource temporarily unavailable"), create=True)
        for failure in (None, full):
            with (
                self.subTest(failure=failure),
                refused,
                mock.patch.object(Ledger, "is_half_empty", True),
                mock.patch.object(Ledger, "shrink", side_effect=failure) as shrunk,
            ):
                self.remove()
                self.assertTrue(shrunk.called)
                self.as_it_was()
            self.world.add_files("pack.zip", FILES)

    def test_what_a_change_left_is_gone_before_the_next_of_the_same_command_begins(self) -> None:
        """Else the room that it takes would be wanting, and what it was about would be told of another."""
        begun: list[int] = []

        def look(point: str) -> None:
            if point == "staging-recorded":
                begun.append(len(self.left()))

        self.world.add_files("over.zip", FILES | {"gels/13.gel": "13"})
        self.world.checkpoint = look
        remove_holdings(self.world.context, ["over", "pack"], lambda _: None)
        self.assertEqual(begun, [0, 0])
        with self.world.context.writing("look after it"):
            self.as_it_was()
