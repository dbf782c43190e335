"""What a person would draw of a structure: parts of it that are tables of their own, though no array says so.

Comes in: the settled shape, and what a further pass over the tapes has counted. Goes out: parts, each with
the reason, which drafting makes tables of. Begin with `parting`; `filled_by_kind` finds the field that tells
the kind of a record.
"""
