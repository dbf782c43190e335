"""The commands of the second night: watch, compare, history, trace.

In come arguments; out goes what has changed, what runs have done, where a row is from. Begin at
`watch_command`.
"""
