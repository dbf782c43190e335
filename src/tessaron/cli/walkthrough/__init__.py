"""What `tessaron demo` shows, step by step, on the harbour's own data.

In comes an empty folder; out go the files of the example, and pages that tell each step as it is done.
Everything here goes through the calls that users have. Read `demo_story` first, the steps in their order;
`demo_walkthrough` has what some of them need, such as one answer got from the documents and from the tables.
"""

STEPS = 17
"""How many steps the demo has."""
