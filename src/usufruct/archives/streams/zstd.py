"""Zstandard: from the standard library if it has the module, else from a package."""

import sys

if sys.version_info >= (3, 14):
    from compression import zstd
else:
    from backports import zstd

__all__ = ["MARKS", "zstd"]

MARKS = (b"\x28\xb5\x2f\xfd", *(bytes((0x50 + number, 0x2A, 0x4D, 0x18)) for number in range(16)))
"""What frames begin with, those that may be skipped too: RFC 8878, sections 3.1.1 and 3.1.2."""
