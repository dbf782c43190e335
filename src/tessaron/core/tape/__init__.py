"""The tape, and what its values are as columns.

In come the arrays that a kernel has written; `emission` makes columns of them in a form, typed where all
values plainly fit, `plain_emission` is its readable reference. `fragment` and `branches` are the
columns, flat and as a tree; `put_aside` packs. Begin with `tape`.
"""
