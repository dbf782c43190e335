"""From sources to what was learnt of them: chunks go to threads, tapes are put aside, faults become rejects.

In come inputs and settled options; out come results chunk by chunk, in order, with their places. Begin
with `reading`; `options` says what a user may ask for.
"""
