"""The SQL that makes tables: dialects, statements, scripts. No database is needed for it.

In come tables of `core.layout.table_set`, out go statements as texts. Begin with `create_tables`.
"""
