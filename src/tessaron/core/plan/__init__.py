"""A layout made ready to run: paths resolved, expressions bound, the order of work.

In come checked layouts (`compiling`) or drafted tables (`drafted_plan`); out go `Plans`, plain data that
any thread can work by. Begin with `plan`.
"""
