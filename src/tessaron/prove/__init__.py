"""Proof: documents made again of tables, and compared with what the tables were made of.

In come a folder of tables with its layout and, to verify, the sources; out go documents, or what is
different and which checks failed. Begin with `verifying` or `rebuilding`.
"""
