"""The tape, and its passes: what kernels make of a chunk, and how structure and columns come out of it.

In come the arrays that a kernel has written; out go classes (`learning`), as a shape, and columns in the form
of a settled structure (`emission`), as a fragment. Both passes are compiled; `plain_learning` and
`plain_emission` are the readable reference. Begin with `tape`.
"""
