"""What two structures differ in, and what that means for tables that are there.

In come facts of places, from layouts or surveys; out go changes, each judged. Begin at `judged_changes`.
"""
