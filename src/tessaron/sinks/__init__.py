"""Rows and documents out, into files and folders that appear whole or not at all.

In come record batches and texts; out go Parquet, CSV and documents. Begin with `table_files` and
`target_folder`.
"""
