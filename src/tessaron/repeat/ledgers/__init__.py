"""The ledger, and what it is asked for: which sources are done, which are new, who is at work on them.

In come sources and the connection of a database; out go deliveries, and entries for the books. Begin at
`ledger`.
"""
