"""What bytes look like before documents are read in them: endings of names, compression, encodings, limits.

In come names and streams; out go UTF-8 in blocks, and which of some files are documents. Begin with
`encodings`.
"""
