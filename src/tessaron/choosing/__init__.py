"""Choosing on a page: a draft, changed by one person in a browser, each choice a line of the layout.

In come a chart (`look/charting`) and where the layout is to be saved; out goes the layout file. Begin with
`layout_choices`: what can be chosen; `live_draft` joins it with the preview, `choosing_server` with browsers.
"""
