"""Bytes to whole records: chunks, envelopes, where records stand, what of them is wanted.

In come blocks of bytes; out go chunks of whole records with their places, and what stands around the
records. Nothing is parsed. Begin with `json_splitting` and `xml_splitting`.
"""
