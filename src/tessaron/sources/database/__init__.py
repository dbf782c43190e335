"""Databases as sources: the rows of a query or table, with documents in their columns.

In comes a `DatabaseQuery`, out go lines of JSON, a row each, streamed in a transaction that only reads. Begin
with `query_rows`; `row_streams` gets the rows, in the quickest way that the driver has.
"""
