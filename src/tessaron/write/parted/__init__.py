"""Rows of parts written where they were made: into a folder or store that all workers reach, or a database.

In come the rows that a worker keeps of a part and what comes before them; out go part files, or rows in
tables that nobody sees yet, and what was counted. Begin with `part_writing`.
"""
