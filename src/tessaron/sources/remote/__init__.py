"""Object stores and other file systems that have a URL, through fsspec.

In comes the URL of an object, of what stands below it, or a pattern; out go openers of bytes, read in ranges,
a few at once, and taken up again where a read breaks. Begin with `store_urls`, then `store_objects`.
"""
