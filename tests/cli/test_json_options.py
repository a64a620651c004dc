"""Every option of every command with --json: the document has the form that is promised."""

import contextlib
import io
import json
import os
import unittest
from collections.abc import Iterator
from typing import Any
from unittest import mock

import click

from tests.cli.test_add import AddCase
from tests.cli.test_json import validate
from usufruct.cli.main import cli, run

ELSEWHERE = {
    "downloads --watch": "it goes on until it is stopped",
    "downloads --notify": "it belongs to --watch",
    "look --pick": "a person at a terminal ticks",
    "add --pick": "a person at a terminal ticks",
    "look --view": "opens another program",
    "add --open": "opens another program",
    "show --open": "opens another program",
}
"""Options that are tried where what they need is there."""

# Each line is a command of its own, after what the lines before it did; `!N` in front: it ends with this code; what
# stands behind `#` is the form, where that is another than the command's own.
STORY = """
look gels.zip --content
look gels.zip --full --verify  # look --verify
look gels.zip --read readme.txt  # look --read
look gels.zip --app lanternbox --into gels --only *.gel --skip sun* --every-format --on-clash both
look gels.zip --to other --flat --nested --programs refuse --yes --autostart allow --skip-unsafe --rescue --names cp437
!2 look gels.zip moons.zip --together --choose all --update old --claim  # look
look locked.zip --password-file words
!3 look moons.zip
look unpacked --unpacked --as byhand
add old.zip --dry-run  # look
add old.zip --full --programs allow --yes
add newer.zip --update old --afterwards store
add gels.zip --app lanternbox --into gels --only *.gel --skip sun* --every-format --on-clash both
add gels.zip --to other --flat --nested --autostart allow --skip-unsafe --rescue --names cp437 --as others
add moons.zip more.zip --together --choose all --as moons --on-clash replace
add locked.zip --password-file words --claim
add unpacked --unpacked --as byhand
downloads --find gel --app lanternbox --all
list --find gel --sort size
list --sizes  # list --sizes
show gels --full
show gels --notes
whose apps --nobodys
check --deep --store --full
repair old --archive newer.zip --changed give-back --password-file words --names cp437
remove others --dry-run --changed leave
remove byhand --app lanternbox --only *
undo --archive unpacked --password-file words --names cp437
redo --archive unpacked --password-file words --names cp437
remove moons --forget  # remove --forget
history --all
archives
archives gels --store  # settled
archives gels --trash  # settled
recover --moved ../apps/Lanternbox ../apps/Lanternbox
recover --backups saved
pack old --out p.7z --format 7z --effort 9 --password-file words --wrapper w --with-junk --dry-run
pack old --out p.zip --volume 1MB --no-wrapper
pack old --out q.zip --lock --password-file words --no-wrapper
carry out carried.zip --without-archives
carry in carried.zip --dry-run --map lanternbox=apps --yes --allow programs --password-file words --names cp437
app list
app list --all  # app list
app show lanternbox
app agree lanternbox  # app changed
!1 app try lanternbox moons.zip more.zip
app learn apps/Weftline --name rug --yes
app edit lanternbox  # app changed
!3 app add given.toml  # app changed
app add given.toml --yes  # app changed
app new mat --root apps/Tidebook  # app changed
app new hat --from hat.toml  # app changed
app drop rug  # app changed
settings
settings set patience 7
settings reset patience  # settings set
desktop on
desktop off
completion bash
manual
demo --keep play --bare
"""


class JsonOptionsTest(AddCase):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/sun.gel": "mine", "Gels/candle.gel": "mine"})
        self.world.write({"Yarns/a.yarn": "a"}, self.world.folder / "apps" / "Weftline")
        self.write("gels.zip", {"gels/moon.gel": "theirs", "gels/sun.gel": "s", "readme.txt": "hi"})
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        self.write("more.zip", {"gels/star.gel": "1"})
        self.write("old.zip", {"gels/old.gel": "1"})
        self.write("newer.zip", {"gels/old.gel": "22"})
        text = (self.home / "apps" / "tidebook.toml").read_text()
        (self.downloads / "hat.toml").write_text(text.replace('"tidebook"', '"hat"'))
        (self.downloads / "given.toml").write_text(text.replace('"tidebook"', '"given"'))
        (self.downloads / "words").write_text("secret\n")
        (self.downloads / "unpacked" / "gels").mkdir(parents=True)
        (self.downloads / "unpacked" / "gels" / "hand.gel").write_text("by hand")
        self.run_words("pack", "unpacked", "--out", "locked.zip", "--lock", "--password-file", "words")
        (self.downloads / "apps").symlink_to(self.world.folder / "apps")
        self.tried: set[str] = set()

    def test_every_option_keeps_the_form_that_is_promised(self) -> None:
        lines = [line for line in STORY.splitlines() if line]
        environment = {"USUFRUCT_HOME": str(self.home), "EDITOR": "true", "XDG_DATA_HOME": str(self.world.folder / "x")}
        with mock.patch.dict(os.environ, environment), contextlib.chdir(self.downloads):
            for line in lines:
                words, _, form = line.partition("#")
                code, words = (int(words[1]), words[2:]) if words[0] == "!" else (0, words)
                with self.subTest(line):
                    self.tell(words.split(), code, form.strip())
        self.assertEqual(self.tried | ELSEWHERE.keys(), set(options(cli, "")))

    def tell(self, words: list[str], code: int, form: str) -> None:
        name = " ".join(words[: 2 if words[0] in ("app", "carry", "desktop") or words[1:2] == ["set"] else 1])
        name = " ".join(words[:2]) if words[:2] == ["settings", "reset"] else name
        self.tried |= {f"{name} {word}" for word in words if word.startswith("--")}
        said, told = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(told):
            ended = run([*words, "--json"])
        document: Any = json.loads(said.getvalue())
        self.assertEqual(ended, code, said.getvalue() + told.getvalue())
        form = "error" if "error" in document else form or name
        validate(document, form)


def options(command: click.Command, path: str) -> Iterator[str]:
    """Every option of every public command, but for --json itself."""
    if isinstance(command, click.Group):
        for name in command.list_commands(click.Context(command)):
            below = command.get_command(click.Context(command), name)
            if below and not below.hidden:
                yield from options(below, f"{path} {name}".strip())
    if path:
        for parameter in command.params:
            if isinstance(parameter, click.Option) and not parameter.hidden and "--json" not in parameter.opts:
                yield f"{path} {next(name for name in parameter.opts if name.startswith('--'))}"


if __name__ == "__main__":
    unittest.main()
