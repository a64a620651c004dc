"""Tests; the folders mirror the package."""

import atexit
import os
import shutil
import tempfile

from tests import systems

if "TESTS_OF_USUFRUCT" not in os.environ:
    # What a test puts into the trash, or places for a program, must not come into the home of whoever runs it.
    home = os.environ["TESTS_OF_USUFRUCT"] = tempfile.mkdtemp(prefix="usufruct-person-")
    atexit.register(shutil.rmtree, home, ignore_errors=True)
    os.environ.update(HOME=home, USERPROFILE=home, XDG_DATA_HOME=f"{home}/.local/share")
    os.environ.pop("XDG_CONFIG_HOME", None)

if systems.current():
    # Before anything of the package is imported: some of it looks once at what the system can do.
    systems.simulate(systems.current())
