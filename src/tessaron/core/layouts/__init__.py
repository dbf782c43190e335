"""Layouts: the file, its model, its mistakes, and how it is made ready to run."""
