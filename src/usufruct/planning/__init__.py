"""Decisions: entries and definitions in, placements, asides and questions out. Nothing here touches a disk."""
