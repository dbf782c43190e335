"""XML itself: tags, namespaces, declarations, schemas, where records stand in documents.

In come bytes and names; nothing here knows of tapes or tables. Begin with `tokens`.
"""
