"""Cpio archives and rpm packages."""
