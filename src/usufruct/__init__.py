"""Usufruct puts downloaded content into an application's folders, and can always take it out again."""

__version__ = "0.1.0"
__date__ = "2026-11-28"
"""Of this version: the day in the changelog once it is released."""
