"""The command that is printed as the answer to a question makes the request that it was built from."""

import shlex

import click
from msgspec.structs import asdict

from tests.support import WorldTest, run_program, zip_bytes
from usufruct.actions.request import Request
from usufruct.cli.commands.add import add
from usufruct.cli.options import request_of, request_options

_VALUES = {"apps": "lanternbox", "into": "gels/blue", "to": "/elsewhere", "names": "cp866", "password_file": "words"}


class AnsweringCommandsTest(WorldTest):
    def asked(self, *words: str) -> Request:
        """The request that `add` makes of these words."""
        params = add.make_context("add", [*words, "x.zip"]).params
        return request_of(self.world.context_with_definitions(), params)

    def same(self, request: Request) -> dict[str, object]:
        return asdict(request) | {"access": (request.access.names, request.access.rescues)}

    def test_the_words_of_a_request_make_it_again_whatever_option_was_given(self) -> None:
        (self.world.folder / "words").write_text("word\n")

        @request_options
        def command() -> None: ...

        options = command.__click_params__  # type: ignore[attr-defined]
        self.assertGreater(len(options), 20)
        for option in options:
            values = option.type.choices if isinstance(option.type, click.Choice) else [_VALUES.get(option.name, "a b")]
            if option.name == "password_file":
                values = [str(self.world.folder / "words")]
            for value in values:
                word = option.opts[0]
                given = (
                    [word]
                    if option.is_flag
                    else [
                        word,
                        value,
                    ]
                )
                given += ["--to", "/there"] if word == "--flat" else []
                with self.subTest(" ".join(given)):
                    request = self.asked(*given)
                    if word == "--pick":  # only ticking at a terminal makes it part of a request
                        continue
                    self.assertNotEqual(self.same(request), self.same(self.asked()))
                    self.assertIn(word, request.words())
                    self.assertEqual(self.same(self.asked(*request.words())), self.same(request))

    def test_a_file_name_that_looks_like_an_option_is_answered_about_too(self) -> None:
        self.world.context_with_definitions()
        downloads, home = self.world.folder / "downloads", self.world.paths.data
        (downloads / "-moons.zip").write_bytes(zip_bytes({"moon/bright/m.gel": "1", "moon/dim/m.gel": "22"}))
        asked = run_program("add", "--", "-moons.zip", home=home, cwd=downloads)
        (answer,) = (line for line in asked.stderr.splitlines() if line.split()[:1] == ["answer"])
        words = shlex.split(answer.partition("usufruct ")[2])
        self.assertEqual(run_program(*words, home=home, cwd=downloads).returncode, 0, words)
        self.assertEqual(self.world.contents(), {"Gels/m.gel": "1"})

    def test_the_command_that_a_remedy_names_knows_a_name_of_two_words(self) -> None:
        self.world.add_files("moons.zip", {"gels/m.gel": "1"}, name="night moons")
        home, here = self.world.paths.data, self.world.folder
        refused = run_program("remove", "night moons", "--only", "*.svg", home=home, cwd=here)
        words = shlex.split(refused.stderr.split("`")[1])
        shown = run_program(*words[1:], home=home, cwd=here)
        self.assertEqual((words[1], shown.returncode), ("show", 0), shown.stderr)

    def test_an_answer_takes_the_place_of_what_contradicts_it(self) -> None:
        request = self.asked("--app", "lanternbox", "--into", "gels", "--on-clash", "keep", "--choose", "pale")
        for answer, words in (
            (("--to", "/there"), "--to /there --choose pale --on-clash keep"),
            (("--on-clash", "both"), "--app lanternbox --into gels --choose pale --on-clash both"),
            (("--choose", "full"), "--app lanternbox --into gels --choose pale --choose full --on-clash keep"),
            (("--update", "moons"), "--update moons --into gels --choose pale --on-clash keep"),
        ):
            self.assertEqual(" ".join(request.with_answer(answer).words()), words)
