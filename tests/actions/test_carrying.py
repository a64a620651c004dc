"""Carrying to another machine: the same content there, whatever is missing told, and nothing there overwritten."""

import json
import os
import zipfile
from unittest import mock

from tests.support import World, WorldTest, zip_bytes
from usufruct.actions.adding import add_archives
from usufruct.actions.applications import known_applications
from usufruct.actions.carrying_in import ToCarryIn, carry_in, plan_carry_in
from usufruct.actions.carrying_out import carry_out
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.request import Request
from usufruct.archives.reading import Access
from usufruct.errors import DamagedArchive, MachineError, UsufructError, WrongUsage


class CarryingTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()
        self.world.add_files("first gels v1.zip", {"gels/moon.gel": "1", "gels/first.gel": "1"})
        self.world.add_files("moons.zip", {"moon.gel": "over it"})
        # The update keeps its place beneath, though it is the newest.
        second = self.world.archive("first gels v2.zip", {"gels/moon.gel": "22", "gels/first.gel": "2"})
        self.assertEqual(self.world.add(second, update="first gels").state, "updated")
        self.world.add_files("loose.zip", {"a/x": "1", "b/y": "2"}, to=str(self.world.folder / "shelf"))
        self.world.paths.settings.write_text('afterwards = "trash"\nstore = "/only/here"\n')
        self.file = self.world.folder / "all.zip"
        there = self.world.folder / "there"
        there.mkdir()
        self.there = World(there)
        (there / "shelf").mkdir()

    def planned(self) -> ToCarryIn:
        return plan_carry_in(self.there.context, self.file, [(str(self.world.folder), str(self.there.folder))])

    def carried(self) -> dict[str, str]:
        results: dict[str, str] = {}
        plan = self.planned()
        carry_in(
            self.there.context,
            plan,
            Access(),
            lambda one, added: results.update({one.holding.name: added.error.message if added.error else added.state}),
        )
        return results

    def states(self) -> dict[str, str]:
        return {one.holding.name: one.state for one in self.planned().holdings}

    def test_the_other_machine_has_the_same_and_can_take_it_out(self) -> None:
        carry_out(self.world.context, self.file, with_archives=True)
        before = self.there.tree()
        self.assertEqual(self.carried(), {"first gels": "added", "moons": "added", "loose": "added"})
        self.assertEqual(self.there.contents(), self.world.contents())
        shelf = self.there.folder / "shelf"
        self.assertEqual((shelf / "loose/a/x").read_text(), "1")
        settings = self.there.paths.settings.read_text()
        self.assertIn("trash", settings)
        self.assertNotIn("/only/here", settings)
        self.there.remove("moons")
        self.assertEqual(self.there.contents()["Gels/moon.gel"], "22")
        self.there.remove("first gels", "loose")
        self.assertEqual(differences(before, self.there.tree()), [])
        self.assertEqual(self.there.strays(), [])
        self.assertEqual(list((self.there.paths.data / "archives").glob(".*")), [])

    def test_pieces_of_other_applications_stay_whole_there_too(self) -> None:
        """Another machine took the yarn out of a puppet: only the holding's own definition had a say."""
        show = self.world.archive("show.zip", {"Owl/rig.toml": "owl", "Owl/tail.yarn": "tail", "blue.yarn": "blue"})
        every = self.world.applications
        request = Request(applications=every).with_answer(("--app", "weftline"))
        (added,) = add_archives(self.world.context, [show], request, lambda _: None)
        self.assertEqual(added.state, "added")
        carry_out(self.world.context, self.file, with_archives=True)
        self.assertEqual(self.carried()["show"], "added")
        for world in (self.world, self.there):
            self.assertEqual({*world.contents(world.folder / "apps/Weftline")}, {"Yarns/blue.yarn"})

    def test_a_second_time_finds_everything_there(self) -> None:
        carry_out(self.world.context, self.file, with_archives=True)
        self.carried()
        self.assertEqual(set(self.states().values()), {"added already"})
        self.assertEqual({one.state for one in self.planned().definitions}, {"there"})
        self.assertEqual(self.carried(), {})

    def test_without_archives_those_that_are_there_are_found(self) -> None:
        carry_out(self.world.context, self.file, with_archives=False)
        self.assertEqual(set(self.states().values()), {"no archive"})
        source = self.world.folder / "downloads/moons.zip"
        (self.there.folder / "downloads/moons.zip").write_bytes(source.read_bytes())
        (self.there.folder / "downloads/loose.zip").write_bytes(b"another of that name")
        self.assertEqual(self.states(), {"first gels": "no archive", "moons": "to add", "loose": "no archive"})
        self.assertEqual(self.carried(), {"moons": "added"})

    def test_what_is_missing_or_edited_is_told(self) -> None:
        (self.world.folder / "downloads/moons.zip").unlink()
        (self.world.lanternbox / "Gels/first.gel").write_text("mine now")
        done = carry_out(self.world.context, self.file, with_archives=True)
        self.assertEqual((done.without, done.edited), (("moons",), {"first gels": 1}))
        self.assertEqual(self.states()["moons"], "no archive")

    def test_what_is_there_stays(self) -> None:
        carry_out(self.world.context, self.file, with_archives=True)
        definition = self.there.paths.apps / "lanternbox.toml"
        definition.parent.mkdir(parents=True)
        own = (self.world.paths.apps / "lanternbox.toml").read_text().replace("Lanternbox shadow theatre", "Mine")
        own = own.replace(str(self.world.folder), str(self.there.folder))
        definition.write_text(own)
        self.there.paths.settings.write_text('afterwards = "store"\n')
        self.there.add_files("moons.zip", {"moon.gel": "another pack of that name"})
        (self.there.folder / "shelf").rmdir()
        self.assertEqual(self.states(), {"first gels": "to add", "moons": "name taken", "loose": "no folder"})
        self.assertEqual(self.carried(), {"first gels": "added"})
        self.assertEqual(definition.read_text(), own)
        self.assertEqual(self.there.paths.settings.read_text(), 'afterwards = "store"\n')

    def test_the_order_is_that_of_the_layers(self) -> None:
        done = carry_out(self.world.context, self.file, with_archives=True)
        names = [one.name for one in done.document.holdings]
        self.assertLess(names.index("first gels"), names.index("moons"))
        self.assertEqual({one.name for one in list_holdings(self.world.context)}, set(names))

    def test_files_that_cannot_be_carried_in(self) -> None:
        carry_out(self.world.context, self.file, with_archives=True)
        with zipfile.ZipFile(self.file) as archive:
            content = {name: archive.read(name) for name in archive.namelist()}
        document = json.loads(content["all/carry.json"])

        def changed(**values: object) -> bytes:
            return json.dumps(document | values).encode()

        cases: list[tuple[dict[str, bytes | None], type[UsufructError], str]] = [
            ({"all/carry.json": None}, WrongUsage, "carry out"),
            ({"all/carry.json": b"{}"}, DamagedArchive, "carry.json"),
            ({"all/carry.json": changed(carry=2)}, WrongUsage, "newer"),
            ({"all/carry.json": b"[" * 100_000}, DamagedArchive, "carry.json"),
        ]
        for changes, error, said in cases:
            files = {name: data for name, data in (content | changes).items() if data is not None}
            self.file.unlink()
            with zipfile.ZipFile(self.file, "w") as archive:
                for name, data in files.items():
                    archive.writestr(name, data)
            with self.subTest(said), self.assertRaisesRegex(error, said):
                self.carried()
        with self.assertRaises(MachineError):
            carry_out(self.world.context, self.file, with_archives=False)

    def test_what_is_odd_in_a_carry_file_stays_out_and_the_rest_is_carried_in(self) -> None:
        """One broken archive ended it in the middle, with the word that nothing was changed."""
        carry_out(self.world.context, self.file, with_archives=True)
        with zipfile.ZipFile(self.file) as archive:
            content = {name: archive.read(name) for name in archive.namelist()}
        broken = next(name for name in content if name.endswith("moons.zip"))
        document = json.loads(content["all/carry.json"])
        document["applications"] += ["nobody", "../x", "deep"]
        odd = {
            broken: zip_bytes({"moon.gel": "another"}),
            "all/apps/deep.toml": b"a=" + b"[" * 10_000,
            "all/carry.json": json.dumps(document).encode(),
        }
        self.file.write_bytes(zip_bytes({**content, **odd}))
        plan = self.planned()
        unusable = [one.name for one in plan.definitions if one.state == "unusable"]
        self.assertEqual(unusable, ["nobody", "../x", "deep"])
        wanted = [one.holding.name for one in plan.holdings if one.state == "to add"]
        added = {one.examined.name: one.state for one in carry_in(self.there.context, plan, Access(), lambda *_: None)}
        self.assertEqual(list(added), wanted)
        self.assertEqual({state for name, state in added.items() if name != "moons"}, {"added"})
        self.assertEqual(added["moons"], "refused")
        self.assertEqual(list((self.there.paths.data / "archives").glob("*moons*")), [])
        self.assertEqual(self.there.strays(), [])

    def test_what_a_carry_file_says_is_checked_as_what_a_user_types(self) -> None:
        """A holding's name was a path to write to, a setting any value, a definition one of ours."""
        carry_out(self.world.context, self.file, with_archives=True)
        with zipfile.ZipFile(self.file) as source:
            entries = {name: source.read(name) for name in source.namelist()}
        (document,) = (name for name in entries if name.endswith("carry.json"))

        def crafted(**changes: object) -> None:
            told = json.loads(entries[document]) | changes
            self.file.write_bytes(zip_bytes({**entries, document: json.dumps(told)}))

        first = json.loads(entries[document])["holdings"]
        for name in ("../../evil", "/evil", "a\\b", "..", "", "x\x1b[2J", "n" * 300):
            crafted(holdings=[first[0] | {"name": name}])
            with self.subTest(name=name):
                self.assertEqual([one.state for one in self.planned().holdings], ["unusable"])
        crafted(holdings=[first[0] | {"application": None, "root": "Lanternbox"}])
        self.assertEqual([(one.state, one.root) for one in self.planned().holdings], [("no folder", "Lanternbox")])
        for key, value in (("most-ratio", 0), ("patience", "long"), ("afterwards", "burn"), ("most-entries", 10**25)):
            crafted(settings={key: value})
            with self.subTest(key=key):
                self.assertEqual(self.planned().settings, [(key, value, "unusable")])
        crafted(settings={"store": "/etc", "downloads": "/"})
        self.assertEqual(self.planned().settings, [])
        top = document.removesuffix("carry.json")
        entries[f"{top}apps/fonts.toml"] = entries[f"{top}apps/weftline.toml"].replace(b"weftline", b"fonts")
        crafted(applications=["fonts"])
        self.assertEqual([(one.name, one.state) for one in self.planned().definitions], [("fonts", "other here")])
        self.assertEqual(self.there.strays(), [])

    def test_loose_files_of_a_root_that_is_not_there_yet(self) -> None:
        """They once got a directory called `.`, which could be made and not taken out."""
        homes = [self.world.folder / name for name in ("old", "new")]
        archive = self.world.archive("type.zip", {"usr/share/fonts/opentype/Sky.otf": "otf", "usr/x/empty/": ""})
        for home, world in zip(homes, (self.world, self.there), strict=True):
            home.mkdir()
            with mock.patch.dict(os.environ, {"HOME": str(home), "XDG_DATA_HOME": str(home / "data"), "PATH": ""}):
                if world is self.world:
                    fonts = [one for one in known_applications(world.context) if one.name == "fonts"]
                    request = Request(applications=tuple(fonts))
                    (added,) = add_archives(world.context, [archive], request, lambda _: None)
                    self.assertEqual((added.state, added.error), ("added", None))
                    carry_out(world.context, self.file, with_archives=True)
                else:
                    self.assertEqual(self.carried()["type"], "added")
                self.assertTrue((home / "data/fonts/Sky.otf").exists())
                (removal,) = world.remove("type")
                self.assertEqual(removal.removed.taken, 1)
            self.assertEqual(list(home.iterdir()), [])

    def test_nothing_to_carry(self) -> None:
        with self.assertRaisesRegex(WrongUsage, "nothing to carry"):
            carry_out(self.there.context, self.file, with_archives=True)
