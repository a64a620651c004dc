"""Tests; the folders mirror the package."""

import atexit
import os
import shutil
import tempfile

from tests import systems

if "TESTS_OF_USUFRUCT" not in os.environ:
    # What a test puts into the trash must not come into that of whoever runs it.
    os.environ["TESTS_OF_USUFRUCT"] = "1"
    os.environ["XDG_DATA_HOME"] = tempfile.mkdtemp()
    atexit.register(shutil.rmtree, os.environ["XDG_DATA_HOME"], ignore_errors=True)

if systems.current():
    # Before anything of the package is imported: some of it looks once at what the system can do.
    systems.simulate(systems.current())
