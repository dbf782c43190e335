"""The tables of an export, read back: what rebuild and verify make documents of.

In comes the folder of an export, out go record batches of its tables, in the order of their keys where that
is wanted, split by the places of shared tables. Begin with `table_folder`.
"""
