"""Decompress streams."""
