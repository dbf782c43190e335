"""Types of columns: what texts and numbers can be read as, fitting them, and how values are written.

In come texts as bytes and numbers; out go Arrow arrays of a type, with what does not fit. Begin with
`column_types`, then `readings` (what a text could be) and `fitting`.
"""
