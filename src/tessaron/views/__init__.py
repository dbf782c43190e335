"""What is shown, and nothing computed: outlines, tables, rows, progress, on terminals and in notebooks.

In come results; out go lines and tables for people. `terminal` has what all views share.
"""
