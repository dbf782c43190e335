"""Paths that ask: JSONPath (RFC 9535), I-Regexp (RFC 9485), XPath 1.0, and help where nothing matches.

In come expressions and parsed documents; out go matches with their places. Begin with `jsonpath` and
`xpath_location`.
"""
