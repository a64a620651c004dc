"""Tests; the folders mirror the package."""

from tests import systems

if systems.current():
    # Before anything of the package is imported: some of it looks once at what the system can do.
    systems.simulate(systems.current())
