"""Looking at a source before anything is decided: its structure, what paths match, its values, a sample.

In come inputs and options; out go surveys, matches, lines and small documents. Nothing is made into
tables. Begin with `surveying` or `finding`.
"""
