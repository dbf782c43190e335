"""What a settled shape tells people: an entry for each path, and what looks like trouble.

In comes a shape that is settled; out come entries in the order of the document, with counts, fill rates,
types and examples, and notes that each say what to do. Nothing is decided here. Begin with
`survey_entries`; the rules of the notes are in `noticing`.
"""
