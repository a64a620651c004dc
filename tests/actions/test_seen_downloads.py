"""What is remembered of downloads: a changed definition makes only those be opened again that it may concern."""

import json
import os
import unittest
from unittest import mock

from tests.support import WorldTest, zip_bytes
from usufruct.actions import downloads
from usufruct.actions.applications import known_applications
from usufruct.actions.downloads import waiting
from usufruct.model.settings import variable_of

LOOM = """usufruct = 1

[application]
name = "loom"
title = "Loom"
root = "{root}"

[[folder]]
name = "drafts"
path = "Drafts"
{rule}
"""
PACKS = {
    "gels.zip": {"gels/moon.gel": "moon", "gels/sun.gel": "sun"},
    "owl.zip": {"Owl/rig.toml": "owl", "Owl/owl.svg": "<svg>"},
    "drafts.zip": {"drafts/twill.draft": "twill", "drafts/readme.txt": "read"},
    "odd.zip": {"odd.zzz": "odd"},
    "inside.zip": {"inner.zip": zip_bytes({"twill.draft": "twill"})},
}


class SeenDownloadsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.context = self.world.context_with_definitions()
        for name, files in PACKS.items():
            self.world.archive(name, files)
        folder = mock.patch.dict(os.environ, {variable_of("downloads"): str(self.world.folder / "downloads")})
        folder.start()
        self.addCleanup(folder.stop)
        self.loom = self.context.paths.apps / "loom.toml"

    def define(self, rule: str) -> None:
        arrange = "" if "arrange" in rule else 'arrange = "loose"\n'
        self.loom.write_text(LOOM.format(root=self.world.folder / "Loom", rule=arrange + rule))
        self.assertIn("loom", [one.name for one in known_applications(self.context)])

    def opened(self) -> set[str]:
        """The downloads that are opened to say how all of them stand, which must be as if nothing was remembered."""
        with mock.patch.object(downloads, "Download", wraps=downloads.Download) as opening:
            found = {one.path: (one.state, one.application, one.detail) for one in waiting(self.context)}
        (self.context.paths.data / "downloads.json").rename(self.world.folder / "kept")
        self.assertEqual(found, {one.path: (one.state, one.application, one.detail) for one in waiting(self.context)})
        (self.world.folder / "kept").replace(self.context.paths.data / "downloads.json")
        return {call.args[0][0].name for call in opening.call_args_list}

    def test_only_those_are_opened_again_that_a_changed_definition_may_concern(self) -> None:
        self.assertEqual(self.opened(), set(PACKS))
        self.assertEqual(self.opened(), set())
        # Archives inside are not known by their names.
        for rule, concerned in (
            ('takes = ["*.weave"]', set()),
            ('takes = ["*.draft"]', {"drafts.zip"}),
            ('takes = ["*.gel"]', {"gels.zip"}),
            ('also = ["odd"]\ntakes = ["*.weave"]', {"gels.zip"}),
            ('arrange = "pieces"\nmark = ["rig.toml"]', {"owl.zip"}),
            ('takes = ["t?ill.draft"]', set(PACKS)),
        ):
            with self.subTest(rule):
                self.define(rule)
                opened = self.opened()
                self.assertLessEqual(concerned, opened)
                self.assertLess(len(opened), len(PACKS) if concerned != set(PACKS) else 99)
                self.assertEqual(self.opened(), set())
        self.loom.unlink()
        self.opened()

    def test_a_definition_that_was_only_written_again_concerns_nobody(self) -> None:
        self.define('takes = ["*.draft"]')
        self.opened()
        self.loom.write_text(f"# a remark\n{self.loom.read_text()}")
        self.assertEqual(self.opened(), set())

    def test_what_somebody_else_wrote_into_the_file_is_found_out_anew(self) -> None:
        self.opened()
        file = self.context.paths.data / "downloads.json"
        known = json.loads(file.read_text())
        for words in ("AAAAA", "not at all", "AAA="):
            for seen in known["downloads"].values():
                seen["words"] = words
            file.write_text(json.dumps(known))
            self.define(f'takes = ["*.{words[:3].strip()}"]')
            self.assertEqual(self.opened(), set(PACKS))
        file.write_text('{"version": 1}')
        self.assertEqual(self.opened(), set(PACKS))

    def test_an_archive_that_was_compared_with_what_was_added_is_not_read_again(self) -> None:
        """It was hashed each time, because what was found was kept in the very value that was known."""
        self.world.add(self.world.folder / "downloads/gels.zip")
        (self.world.folder / "downloads/gels.zip").rename(self.world.folder / "downloads/gels (1).zip")
        self.assertEqual({one.state for one in waiting(self.context, find="gels")}, {"added"})
        with mock.patch.object(downloads, "digest_of") as hashing:
            self.assertEqual({one.state for one in waiting(self.context, find="gels")}, {"added"})
        hashing.assert_not_called()


if __name__ == "__main__":
    unittest.main()
