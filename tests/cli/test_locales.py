"""The whole program in the locales of other languages, with the encodings that their systems had."""

import os
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from tests.cli.test_add import AddCase
from tests.support import zip_bytes

LOCALES = (("de_DE", "ISO-8859-1"), ("ja_JP", "EUC-JP"), ("tr_TR", "UTF-8"))
SOURCES = Path("/usr/share/i18n/locales")


@unittest.skipUnless(shutil.which("localedef") and (SOURCES / "ja_JP").exists(), "the sources of locales are not here")
class LocalesTest(AddCase):
    made: str

    @classmethod
    def setUpClass(cls) -> None:
        cls.made = tempfile.mkdtemp(prefix="usufruct-locales-")
        cls.addClassCleanup(shutil.rmtree, cls.made)
        for language, encoding in LOCALES:
            made = f"{cls.made}/{language}.{encoding}"
            subprocess.run(["localedef", "-i", language, "-f", encoding, made], capture_output=True, check=False)

    def test_names_of_all_scripts_are_listed_placed_and_taken_out(self) -> None:
        for name in ("źródło 夜.zip", "Grüße.zip", "İZMİR.zip"):
            (self.downloads / name).write_bytes(zip_bytes({f"gels/{name}.gel": name, "gels/İZMİR.gel": "x"}))
        for language, encoding in LOCALES:
            locale = f"{language}.{encoding}"
            around = {"LC_ALL": locale, "LOCPATH": self.made, "PYTHONUTF8": "0"}
            for words, code in (
                (("downloads",), 0), (("add", "--as", "夜 é", "Grüße.zip"), 0), (("show", "夜 é"), 0),
                (("add", "--json", "źródło 夜.zip", "--only", "*izmir*", "--to", "x"), 0),
                (("remove", "*"), 0), (("look", "nicht da ü夜.zip"), 2),
            ):  # fmt: skip
                with self.subTest(locale, words=words):
                    done = subprocess.run(
                        [*self.program_words(), *words], cwd=self.downloads, capture_output=True, check=False,
                        env={**os.environ, "USUFRUCT_HOME": str(self.home), "USUFRUCT_DOWNLOADS": ".", **around},
                    )  # fmt: skip
                    self.assertEqual(done.returncode, code, (done.stdout[-600:], done.stderr[-600:]))
                    self.assertNotIn(b"Unicode", done.stdout + done.stderr)

    def program_words(self) -> list[str]:
        from tests.support import program

        return program()


if __name__ == "__main__":
    unittest.main()
