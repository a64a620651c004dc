"""Usufruct puts downloaded content into an application's folders, and can always take it out again."""

__version__ = "0.1.0"
