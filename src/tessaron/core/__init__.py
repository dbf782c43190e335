"""Computation only: no files, no network, no processes, no clock, no terminal.

A value goes through the rooms once: `cutting` into chunks, `kernel` to the tape, `shape` learns the
structure, `layout` drafts from it, `plan` makes that ready, `tables` makes rows. `base`, `types`,
`tape`, `markup` and `query` are what these stand on; `compiled` holds what is written in C.
"""
