"""Tables in databases: how each dialect of SQL makes them, how rows get in, and what is checked there.

In come tables as a layout plans them, and batches of their rows; out goes SQL for people (`load_script`), or
tables that appear in one transaction (`database_target`). Begin at `sql_dialects`, then `create_tables`.
"""
