"""Computation only: no files, no network, no printing."""
