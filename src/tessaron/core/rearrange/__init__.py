"""What a layout changes of the structure before rows are made.

In comes the tree of a fragment; it is changed: texts that hold documents, rows of bare values, pieces,
lists in texts, arrays side by side. Begin with `restructure`.
"""
