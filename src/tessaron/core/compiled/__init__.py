"""What is written in C, each with a twin in Python that says the same more slowly and is tested beside it.

`_fastjson` holds the kernels of JSON and XML and the scan for structure, `_passes` learns, emits, orders
and digests tapes, `_csv` writes rows. Sizes and allocations are checked; the interpreter lock is not
held. Begin with `_tape.h`.
"""
