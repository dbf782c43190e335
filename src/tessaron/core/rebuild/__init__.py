"""Rows to records: places, groups, texts of JSON and XML, digests and differences of records.

In come tables in the order of their keys, and what the layout says of the way back (`turning_back`); out
go texts of records and a number for each. Begin with `records`.
"""
