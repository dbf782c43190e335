"""The shape: the structure of all that was read, with counts, and what was settled about it.

In come tapes (`learning`) and fragments; out go a tree of places with what was met at each, the form
that tapes are emitted in (`shape_form`), the types that columns get (`inference`), and what a survey
goes by. Begin with `shape_node`, then `shape`, `structure` and `recursion`.
"""
