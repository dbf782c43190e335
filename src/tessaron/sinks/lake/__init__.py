"""Lake tables (Apache Iceberg): which catalog a text names, and its tables as target of a load.

In come tables as a layout plans them, and batches of their rows; out go commits, one for each table. Begin at
`lake_tables`.
"""
