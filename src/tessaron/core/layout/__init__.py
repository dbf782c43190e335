"""The layout: its tables as plain data, drafted from a shape, checked, written, edited.

In come shapes or the text of a layout file; out go `TableSet`s, models and texts. Begin with
`table_set`, then `drafting` and `layout_model`.
"""
