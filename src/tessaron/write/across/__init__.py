"""What holds across all chunks of a run: keys that go on, values that must be there once, watched keys.

In come the rows of one chunk after the other, or their digests; out goes what is decided about them. Begin
with `chunk_placing`, which applies that.
"""
