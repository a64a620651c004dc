"""Xar archives."""
