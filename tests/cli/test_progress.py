"""Progress: told by the core after each file, shown by the interface once it takes longer than a moment."""

import contextlib
import io
import unittest
from unittest import mock

from msgspec.structs import replace

from tests.support import WorldTest
from usufruct.actions.adding import add_archives
from usufruct.actions.removing import remove_holdings
from usufruct.cli.cells import cells
from usufruct.cli.progress import Watching
from usufruct.model.progress import Progress


class ProgressTest(WorldTest):
    def test_every_file_is_counted_to_the_end(self) -> None:
        told: list[Progress] = []
        context = replace(self.world.context, watch=told.append)
        self.world.write({"Gels/a.gel": "mine"})
        path = self.world.archive("gels.zip", {f"gels/{name}.gel": name * 9 for name in "abc"})
        add_archives(context, [path], self.world.request(), lambda _: None)
        self.assertEqual([one.files for one in told], [1, 2, 3])
        self.assertEqual((told[-1].size, told[-1].of_size, told[-1].of_files), (27, 27, 3))
        self.assertEqual({(one.about, one.phase) for one in told}, {("gels", "unpacking")})
        told.clear()
        remove_holdings(context, ["gels"], lambda _: None)
        self.assertEqual([(one.phase, one.files, one.of_files) for one in told], [("giving back", 1, 1)])

    def test_without_a_terminal_a_line_is_printed_now_and_then(self) -> None:
        said = io.StringIO()
        seconds = 0.0
        with (
            mock.patch("time.monotonic", lambda: seconds),
            contextlib.redirect_stderr(said),
            Watching(count=2) as watching,
        ):
            for number in range(1, 31):
                watching(Progress("owl\x1b", "unpacking", number, 30, number * 1000, 30_000))
                seconds += 1.0
        lines = said.getvalue().splitlines()
        self.assertEqual(len(lines), 2)
        self.assertEqual(lines[0], r"1 of 2: owl\x1b, unpacking: 11 of 30 files, 11.0 kB of 30.0 kB")

    def test_at_a_terminal_one_line_is_drawn_over_and_taken_away(self) -> None:
        for columns in (20, 60, 100):
            said = _Screen()
            seconds = 0.0
            with (
                self.subTest(columns),
                mock.patch("time.monotonic", lambda: seconds),  # noqa: B023 - called in this turn
                mock.patch.dict("os.environ", {"COLUMNS": str(columns), "NO_COLOR": "1"}),
                contextlib.redirect_stderr(said),
            ):
                with Watching() as watching:
                    for number in range(1, 31):
                        watching(Progress("影絵 owls " * 9, "unpacking", number, 30, number * 1000, 30_000))
                        seconds += 1.0
                drawn = said.getvalue().split("\r")
                self.assertNotIn("\n", said.getvalue())
                self.assertEqual(drawn[-1], "")
                self.assertEqual(drawn[-2].strip(), "")
                self.assertLessEqual({cells(line) for line in drawn}, {0, columns - 1})
                if columns == 100:
                    self.assertRegex(
                        drawn[-3], r"影絵 owls .*…  ━{8,}  30.0 kB of 30.0 kB, 30 of 30 files done, 1.0 kB/s"
                    )
                    self.assertRegex(drawn[10], r"━+─+  11.0 kB of 30.0 kB.*0:17 left")


class _Screen(io.StringIO):
    encoding = "utf-8"  # type: ignore[assignment]

    def isatty(self) -> bool:
        return True


if __name__ == "__main__":
    unittest.main()
