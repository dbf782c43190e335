"""Tables as sources: CSV and its like, Parquet, Arrow, spreadsheets, with documents in their columns.

In come the bytes of a file, out go lines of JSON, a row each. Begin with `tabular_files`.
"""
