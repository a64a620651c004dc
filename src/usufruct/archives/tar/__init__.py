"""Tar archives, plain or packed."""
