"""Tape and plan to typed rows with keys.

In come tapes and a `LayingPlan`; out go record batches with keys counted from 1, what does not hold,
what was left out. `lay_work` does it for a chunk, `laying` for a fragment, `columns` works columns out,
`row_batches` puts rows together, `numbering` lets keys go on. Begin with `lay_work`.
"""
