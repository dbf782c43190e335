"""Layouts as people use them: read, changed, written, drafted from a source.

In come the text of a layout file or what was read of a source; out goes a `Layout`. Computation is in
`core.layout` and `core.plan`. Begin with `layout_file`.
"""
