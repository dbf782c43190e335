"""Export: a run over sources, and its books.

In come inputs and options, perhaps with a layout; out go files of tables, a receipt whose sums must add
up, and the rejects. `table_run` makes the rows, `drafted_tables` drafts where no layout is given,
`account` keeps the books. Begin with `export`.
"""
