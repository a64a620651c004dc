"""The JSON that others may build on: every document against a schema of what is promised."""

import json
import unittest
from typing import Any

import jsonschema

from tests.cli.test_add import AddCase

TEXT, NUMBER, MAYBE = {"type": "string"}, {"type": "integer"}, {"type": ["string", "null"]}
ABSOLUTE = {"type": "string", "pattern": "^(/|[A-Za-z]:)"}
MOMENT = {"type": "string", "pattern": r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d[+-]\d\d:\d\d$"}


def record(**fields: Any) -> dict[str, Any]:
    """An object that has at least these fields; more may come with later versions."""
    return {"type": "object", "properties": fields, "required": list(fields)}


def several(of: dict[str, Any], least: int = 0) -> dict[str, Any]:
    return {"type": "array", "items": of, "minItems": least}


DECISION = record(
    question=TEXT,
    options=several(record(name=TEXT, answer=several(TEXT, 2), files=NUMBER, bytes=NUMBER)),
)
PLACEMENT = record(
    entry=TEXT,
    to=TEXT,
    folder=MAYBE,
    why=TEXT,
    clash={"enum": [None, "same", "replaces", "stays"]},
)
KINDS = ["junk", "notes", "duplicate", "not-taken", "not-chosen", "other-format", "left-out", "clash", "archive"]
ARCHIVE = record(
    path=ABSOLUTE,
    format=MAYBE,
    application=MAYBE,
    holding=MAYBE,
    placements=several(PLACEMENT),
    aside=several(record(entry=TEXT, kind={"enum": KINDS}, reason=TEXT)),
    refused=several(record(entry=TEXT, reason=TEXT)),
    decision={"anyOf": [{"type": "null"}, DECISION]},
)
ADDED = record(
    **ARCHIVE["properties"],
    state={"enum": ["added", "already added", "updated", "refused", "failed"]},
    error={"anyOf": [{"type": "null"}, record(code=TEXT, message=TEXT, kept=TEXT, remedy=TEXT)]},
)
HOLDING = record(name=TEXT, application=MAYBE, archive=ABSOLUTE, files=NUMBER, bytes=NUMBER, added=MOMENT, state=TEXT)
FILE = record(path=ABSOLUTE, entry=TEXT, bytes=NUMBER, hash={"type": "string", "pattern": "^blake3:"}, replaced=MAYBE)


class JsonTest(AddCase):
    def document(self, schema: dict[str, Any], *words: str, code: int = 0) -> Any:
        found = json.loads(self.run_words(*words, "--json", code=code).stdout)
        jsonschema.validate(found, schema)
        return found

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
        looked = self.document(record(archives=several(ARCHIVE, 1)), "look", "pack.zip", "--skip", "day*")["archives"][
            0
        ]
        clashes = {one["to"]: one["clash"] for one in looked["placements"]}
        self.assertEqual(clashes, {"Gels/moon.gel": "replaces", "Gels/sun.gel": "same"})
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
        both = self.document(record(archives=several(ARCHIVE, 1)), "look", "pack.zip", "--on-clash", "both")
        stays = [one for one in both["archives"][0]["placements"] if one["clash"] == "stays"]
        self.assertEqual([one["to"] for one in stays], ["Gels/moon (2).gel"])
        schema = record(archives=several(ADDED, 1))
        self.assertEqual(self.document(schema, "add", "pack.zip")["archives"][0]["state"], "added")
        self.assertEqual(self.document(schema, "add", "pack.zip")["archives"][0]["state"], "already added")

    def test_questions_refusals_and_errors(self) -> None:
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        self.write("sly.zip", {"../up.gel": "x", "a.gel": "a"})
        (self.downloads / "broken.zip").write_bytes(b"no zip")
        schema = record(archives=several(ADDED, 1))
        asked = self.document(schema, "add", "moons.zip", code=3)["archives"][0]
        self.assertEqual([one["name"] for one in asked["decision"]["options"]], ["a", "b", "all"])
        refused = self.document(schema, "add", "sly.zip", code=4)["archives"][0]
        self.assertEqual((refused["state"], refused["refused"][0]["entry"]), ("refused", "../up.gel"))
        self.assertEqual(refused["error"]["code"], "unsafe")
        broken = self.document(schema, "add", "broken.zip", code=4)["archives"][0]
        self.assertEqual(broken["error"]["code"], "damaged")
        wrong = self.document(record(error=record(code=TEXT, message=TEXT)), "show", "nobody", code=2)
        self.assertEqual(wrong["error"]["code"], "wrong-usage")

    def test_to_is_absolute_where_a_folder_lies_elsewhere_and_relative_otherwise(self) -> None:
        text = (self.home / "apps" / "weftline.toml").read_text()
        elsewhere = self.world.folder / "elsewhere"
        elsewhere.mkdir()
        (self.home / "apps" / "weftline.toml").write_text(text.replace('path = "Yarns"', f'path = "{elsewhere}"'))
        self.write("wool.zip", {"threads/wool.yarn": "wool", "weaves/twill.weft": "twill"})
        looked = self.document(record(archives=several(ARCHIVE, 1)), "look", "wool.zip")["archives"][0]
        self.assertEqual({one["to"] for one in looked["placements"]}, {f"{elsewhere}/wool.yarn", "Drafts/twill.weft"})
        self.run_words("add", "wool.zip")
        self.assertTrue((elsewhere / "wool.yarn").exists())
        self.run_words("remove", "wool")
        self.assertFalse((elsewhere / "wool.yarn").exists())

    def test_what_was_added(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        self.write("gels.zip", {"gels/moon.gel": "theirs", "readme": "hi"})
        self.run_words("add", "gels.zip")
        self.document(record(holdings=several(HOLDING, 1)), "list")
        shown = self.document(record(**{**HOLDING["properties"], "files": several(FILE, 1)}), "show", "gels")
        self.assertEqual(shown["files"][0]["replaced"], "original")
        checked = record(name=TEXT, fine=NUMBER, changed=several(ABSOLUTE), missing=several(ABSOLUTE))
        self.document(record(holdings=several(checked, 1)), "check")
        owner = record(path=ABSOLUTE, holding=MAYBE, beneath=several(TEXT))
        found = self.document(owner, "whose", str(self.world.lanternbox / "Gels/moon.gel"))
        self.assertEqual((found["holding"], found["beneath"]), ("gels", ["original"]))
        change = record(kind=TEXT, about=TEXT, started=MOMENT, finished=MOMENT)
        self.document(record(changes=several(change, 1)), "history")
        kept = record(path=ABSOLUTE, bytes=NUMBER, holdings=several(TEXT, 1), state=TEXT)
        self.document(record(archives=several(kept, 1)), "archives")
        repaired = record(name=TEXT, written=several(ABSOLUTE), changed=several(ABSOLUTE))
        self.document(repaired, "repair", "gels")
        removed = record(name=TEXT, taken=NUMBER, given_back=several(ABSOLUTE), left=several(ABSOLUTE))
        self.document(record(holdings=several(removed, 1)), "remove", "gels")
        undone = record(undone=change, holding=TEXT, files=NUMBER, left=several(ABSOLUTE))
        self.document(undone, "undo")

    def test_applications_and_settings(self) -> None:
        folder = record(name=TEXT, path=TEXT, arrange={"enum": ["loose", "tree", "pieces"]}, takes=several(TEXT))
        application = record(name=TEXT, title=TEXT, root=ABSOLUTE, definition=ABSOLUTE, folders=several(folder, 1))
        self.document(record(applications=several(application, 3)), "app", "list")
        self.document(application, "app", "show", "lanternbox")
        setting = record(key=TEXT, source=TEXT, meaning=TEXT)
        self.document(record(file=ABSOLUTE, settings=several(setting, 5)), "settings")


if __name__ == "__main__":
    unittest.main()
