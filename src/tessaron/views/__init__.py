"""Showing what the core found."""
