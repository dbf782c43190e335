"""What a run keeps beside memory until its end: tapes and rows put aside, and what it has rejected.

In come packed arrays and rejects; out they come in their order. Begin with `spill`.
"""
