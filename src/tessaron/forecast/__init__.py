"""What a run would take, before it is begun: a sample is exported and measured, and a model says the rest.

In come a source and options; out come files, bytes, records, tables, times, memory and sizes. Begin with
`estimating`; `cost_model` says how times follow from what was measured.
"""
