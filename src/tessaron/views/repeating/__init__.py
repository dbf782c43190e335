"""What is shown of the second night: sources, changes, runs, where rows are from, lines of a log.

In comes what `repeat` returns; out go tables and lines for the terminal. Begin at `kept_view`.
"""
