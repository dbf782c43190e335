"""Web APIs as sources: what is asked, page after page, as one stream of documents.

In comes a URL or a feed file, out go the answers, one after another. Secrets come from the environment or
from files, and stand nowhere else. Begin with `pages`.
"""
