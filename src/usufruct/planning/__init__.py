"""Decisions: entries and definitions in, placements, skipped entries and questions out. Nothing here touches a disk."""
