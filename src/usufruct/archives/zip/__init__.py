"""Zip archives."""
