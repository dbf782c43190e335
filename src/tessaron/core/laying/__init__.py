"""Laying: fragments become the rows of a given layout, whole columns at a time."""
