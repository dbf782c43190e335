"""Tables in databases: how rows get in, what becomes of what is there, and what is checked.

In come tables as a layout plans them, and batches of their rows; out come tables that appear in one
transaction. Begin at `database_target`.
"""
