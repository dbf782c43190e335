"""Bytes and tables in: files, folders, standard input, objects, of any encoding and compression.

In come paths, streams and Python values; out go chunks of whole records, or record batches of tables.
Limits keep a hostile source from using up the machine. Begin with `inputs`.
"""
