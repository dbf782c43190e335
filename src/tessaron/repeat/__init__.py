"""The second night: what is new since the last run, what its structure has become, and what every run did.

In come sources and a target that runs have filled before; out goes the same target with what is new, or a
list of what is different. Begin at `keeping_up`; the books are in `ledgers`.
"""
