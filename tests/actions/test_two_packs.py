"""Two packs with the same names inside, added in either order: both are whole, or the second is a question."""

import unittest
from pathlib import Path

from msgspec.structs import replace

from tests.planning.test_packs import OWN, PACKS, places_of
from tests.support import WorldTest
from usufruct.actions.adding import add_archives
from usufruct.actions.request import Request
from usufruct.model.applications import Application

_MOST_FILES = 60
"""Of a pack that is really added, twice over."""


def plain_packs() -> list[dict]:
    """Those that are placed without a question, below their application's root."""
    return [
        pack
        for pack in PACKS
        if "goes" in pack
        and pack["for"] in {one.name for one in OWN}
        and not {"inside", "entries", "expand"} & pack.keys()
        and not any(to.startswith("/") for to in pack["goes"].values())
        and not any(entry.endswith(".zip") for entry in pack["goes"])
        and len(places_of(pack)) <= _MOST_FILES
    ]


class TwoPacksTest(WorldTest):
    def installed(self, pack: dict, number: int) -> Application:
        """The pack's application, with a root of its own for this pack."""
        application = next(one for one in OWN if one.name == pack["for"])
        root = self.world.folder / "apps" / str(number) / Path(application.root).name
        root.mkdir(parents=True)
        return replace(application, root=str(root))

    def test_neither_takes_anything_of_the_other_unasked(self) -> None:
        asked = both = 0
        for number, pack in enumerate(plain_packs()):
            names = pack["download"], f"Another {pack['download']}"
            # Which of both comes first matters by their names alone: half of the packs show it.
            first, second = names[::-1] if number % 2 else names
            with self.subTest(pack["story"], first=first):
                application = self.installed(pack, number)
                request = Request(applications=(application,), conflict_is_said=False)
                holdings = {}
                for name in (first, second):
                    files = {entry: f"{name}: {entry}" for entry in places_of(pack)}
                    archive = self.world.archive(f"{Path(name).stem}.zip", files)
                    (added,) = add_archives(self.world.context, [archive], request, lambda _: None)
                    holdings[name] = added
                self.assertEqual(holdings[first].state, "added", holdings[first].error)
                is_asked = holdings[second].state == "refused"
                if is_asked:
                    self.assertIn("Replace", holdings[second].examined.decisions[0].question)
                else:
                    self.assertEqual(holdings[second].state, "added", holdings[second].error)
                asked, both = asked + is_asked, both + (not is_asked)
                there = [*self.world.contents(Path(application.root)).values()]
                for name in (first,) if is_asked else (first, second):
                    wanted = {f"{name}: {entry}" for entry in places_of(pack)}
                    self.assertLessEqual(wanted, set(there))
                self.world.remove(*(one.examined.name for one in holdings.values() if one.placed))
        self.assertGreater(min(asked, both), 5)


if __name__ == "__main__":
    unittest.main()
