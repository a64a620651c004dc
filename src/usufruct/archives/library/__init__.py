"""Formats that libarchive reads."""
