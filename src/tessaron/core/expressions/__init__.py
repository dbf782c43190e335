"""The language of calculated columns and filters.

In comes text; `parsing` makes a tree of it, `checking` gives every part its type before any data is
read, `evaluation` works it out on whole columns, with SQL's logic of nulls. Begin with `syntax`.
"""
