"""The JSON that others may build on: every document against a schema of what is promised."""

import json
import unittest
from pathlib import Path
from typing import Any

import click
import jsonschema

from tests.cli.case import ProgramCase
from usufruct.cli.main import cli

SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "json-schema.json").read_text(encoding="utf-8"))


def closed(schema: Any) -> Any:
    """The schema with no keys but those it names: users may meet new ones, but none that it is silent about today."""
    if isinstance(schema, list):
        return [closed(one) for one in schema]
    if not isinstance(schema, dict):
        return schema
    inner = {key: closed(one) for key, one in schema.items()}
    return inner | ({"additionalProperties": False} if "properties" in schema and "type" in schema else {})


CLOSED = closed(SCHEMA["$defs"])


def validate(document: object, form: str) -> None:
    """Raise ValidationError where a document has not the form of this name, or has keys that the form does not name."""
    schema = {"$ref": f"#/$defs/{form}", "$defs": CLOSED}
    # The schema itself is checked once, below.
    jsonschema.Draft202012Validator(schema).validate(document)


class JsonTest(ProgramCase):
    def document(self, command: str, *words: str, code: int = 0, form: str = "") -> Any:
        """What a command prints, once it has the form that the schema promises for it."""
        found = super().document(*command.split(), *words, code=code)
        validate(found, form or command)
        return found

    def write_gels(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        self.write("gels.zip", {"gels/moon.gel": "theirs", "readme": "hi"})

    def test_looking_and_adding(self) -> None:
        self.world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "sun"})
        self.write(
            "pack.zip",
            {
                "gels/moon.gel": "theirs",
                "gels/sun.gel": "sun",
                "gels/sun.csv": "other format",
                "gels/day.gel": "day",
                "readme.txt": "hi",
                "__MACOSX/x": "junk",
                "more.zip": b"PK",
                "thing.xyz": "nobody's",
            },
        )
        looked = self.document("look", "pack.zip", "--skip", "day*")["archives"][0]
        conflicts = {one["to"]: one["clash"] for one in looked["placements"]}
        self.assertEqual(conflicts, {"Gels/moon.gel": "replaces", "Gels/sun.gel": "same"})
        kinds = {one["entry"]: one["kind"] for one in looked["aside"]}
        self.assertEqual(
            kinds,
            {
                "gels/sun.csv": "other-format",
                "gels/day.gel": "left-out",
                "readme.txt": "notes",
                "__MACOSX/x": "junk",
                "more.zip": "archive",
                "thing.xyz": "not-taken",
            },
        )
        both = self.document("look", "pack.zip", "--on-clash", "both")
        stays = [one for one in both["archives"][0]["placements"] if one["clash"] == "stays"]
        self.assertEqual([one["to"] for one in stays], ["Gels/moon (2).gel"])
        self.assertEqual(self.document("add", "pack.zip")["archives"][0]["state"], "added")
        self.assertEqual(self.document("add", "pack.zip")["archives"][0]["state"], "already added")

    def test_several_archives_are_one_document_as_others_write_it(self) -> None:
        """Each is printed by itself, so that the documents of many do not fill the memory."""
        self.write("夜.zip", {"夜/é.gel": "1"})
        self.write("day.zip", {"day.gel": "1"})
        printed = self.run_words("look", "夜.zip", "day.zip", "--json").stdout
        self.assertEqual(printed, json.dumps(json.loads(printed), indent=2, ensure_ascii=False) + "\n")
        names = [Path(one["path"]).name for one in json.loads(printed)["archives"]]
        self.assertEqual(names, ["夜.zip", "day.zip"])

    def test_every_command_takes_it(self) -> None:
        def lacking(command: click.Command, path: str) -> list[str]:
            if isinstance(command, click.Group) and not command.invoke_without_command:
                below = [(name, command.get_command(click.Context(command), name)) for name in
                         command.list_commands(click.Context(command))]  # fmt: skip
                return [one for name, inner in below if inner for one in lacking(inner, f"{path} {name}")]
            # What is hidden is for file managers.
            takes_it = command.hidden or any("--json" in parameter.opts for parameter in command.params)
            return [] if takes_it else [path]

        self.assertEqual(lacking(cli, "usufruct"), [])

    def test_questions_refusals_and_errors(self) -> None:
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        self.write("sly.zip", {"../up.gel": "x", "a.gel": "a"})
        (self.downloads / "broken.zip").write_bytes(b"no zip")
        asked = self.document("add", "moons.zip", code=3)["archives"][0]
        self.assertEqual([one["name"] for one in asked["decision"]["options"]], ["a", "b", "all"])
        refused = self.document("add", "sly.zip", code=4)["archives"][0]
        self.assertEqual((refused["state"], refused["refused"][0]["entry"]), ("unsafe", "../up.gel"))
        self.assertEqual(refused["error"]["code"], "unsafe")
        broken = self.document("add", "broken.zip", code=4)["archives"][0]
        self.assertEqual(broken["error"]["code"], "misnamed")
        wrong = self.document("show", "nobody", code=2, form="error")
        self.assertEqual(wrong["error"]["code"], "wrong-usage")
        for words in (("add", "--on-clash", "perhaps", "x.zip"), ("look",), ("list", "--nothing"), ("show", "a", "b")):
            error = self.document(*words, code=2, form="error")["error"]
            self.assertEqual((error["code"], error["kept"]), ("wrong-usage", "Nothing was changed."), words)
            self.assertIn("--help", error["remedy"])

    def test_to_is_absolute_where_a_folder_lies_elsewhere_and_relative_otherwise(self) -> None:
        text = (self.home / "apps" / "weftline.toml").read_text()
        elsewhere = self.world.folder / "elsewhere"
        elsewhere.mkdir()
        (self.home / "apps" / "weftline.toml").write_text(text.replace('path = "Yarns"', f'path = "{elsewhere}"'))
        self.write("wool.zip", {"threads/wool.yarn": "wool", "weaves/twill.weft": "twill"})
        looked = self.document("look", "wool.zip")["archives"][0]
        self.assertEqual({one["to"] for one in looked["placements"]}, {f"{elsewhere}/wool.yarn", "Drafts/twill.weft"})
        self.run_words("add", "wool.zip")
        self.assertTrue((elsewhere / "wool.yarn").exists())
        self.run_words("remove", "wool")
        self.assertFalse((elsewhere / "wool.yarn").exists())

    def test_what_was_added(self) -> None:
        self.write_gels()
        self.run_words("add", "gels.zip")
        self.document("list")
        self.document("list", "--sizes", form="list --sizes")
        self.assertEqual(self.document("show", "gels")["files"][0]["replaced"], "original")
        self.assertEqual(self.document("check", "--store")["store"]["kept"], 1)
        found = self.document("whose", str(self.world.lanternbox / "Gels/moon.gel"))
        self.assertEqual((found["holding"], found["beneath"]), ("gels", ["original"]))
        self.assertEqual(len(self.document("history")["changes"]), 1)
        self.assertEqual(self.document("archives")["archives"][0]["state"], "there")
        self.document("repair", "gels")
        self.assertFalse(self.document("check")["holdings"][0]["away"])
        self.assertEqual(self.document("recover")["reversed"], [])
        self.assertEqual(self.document("recover", "--moved", *2 * (str(self.world.lanternbox),))["moved"], 1)
        self.assertEqual(self.document("remove", "gels")["holdings"][0]["state"], "removed")
        self.assertEqual(self.document("undo")["changes"][0]["files"], 1)
        self.assertFalse(self.document("redo")["changes"][0]["is_in"])
        self.assertTrue(self.document("history")["changes"][-1]["changes"])

    def test_applications_settings_and_the_desk(self) -> None:
        self.write_gels()
        self.run_words("add", "gels.zip")
        self.assertGreaterEqual(len(self.document("app list")["applications"]), 3)
        self.document("app show", "lanternbox")
        self.assertGreaterEqual(len(self.document("settings")["settings"]), 5)
        self.run_words("settings", "set", "downloads", str(self.downloads))
        self.assertEqual(self.document("downloads")["downloads"][0]["state"], "added")
        self.assertEqual(self.document("pack", "gels", "--out", "again.zip")["files"], 1)
        self.assertNotIn("packed", self.document("pack", "gels", "--out", "more.zip", "--dry-run"))
        self.document("carry out", "all.zip")
        self.assertEqual(self.document("carry in", "all.zip", "--dry-run")["holdings"][0]["state"], "added already")

    def test_every_form_is_that_of_a_command(self) -> None:
        jsonschema.Draft202012Validator.check_schema(SCHEMA)
        promised = {one["$ref"].rpartition("/")[2] for one in SCHEMA["anyOf"]}
        self.assertLessEqual(promised, SCHEMA["$defs"].keys())
        with self.assertRaises(jsonschema.ValidationError):
            validate({"holdings": [{"name": 1}]}, "list")


if __name__ == "__main__":
    unittest.main()
