"""Words of the trade: paths, kinds, errors and faults, names, digests, texts as bytes, what may be shown.

Everything else in `core` stands on this. Paths are tuples of steps (`paths`); how they are shown is
another matter.
"""
