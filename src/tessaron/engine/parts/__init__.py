"""The input in parts, each of which a task works on by itself: in this process, or on workers of a cluster.

In come inputs and what is wanted of them; out comes what there is to tell of each part, light enough to
travel, while tapes and rows stay where they were made. Begin with `task_engine`, behind which tasks run.
"""
