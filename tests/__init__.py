"""Tests; the folders mirror the package."""

import atexit
import os
import shutil
import tempfile

from tests import systems

# What a test puts into the trash must not come into that of whoever runs it.
os.environ["XDG_DATA_HOME"] = tempfile.mkdtemp()
atexit.register(shutil.rmtree, os.environ["XDG_DATA_HOME"], ignore_errors=True)

if systems.current():
    # Before anything of the package is imported: some of it looks once at what the system can do.
    systems.simulate(systems.current())
