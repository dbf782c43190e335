"""The commands that make tables and prove them: draft, export, ddl, load, rebuild, verify.

In come arguments; out go files or tables in a database, with a summary on standard output. Begin at
`export_command`.
"""
