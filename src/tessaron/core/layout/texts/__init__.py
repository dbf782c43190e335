"""The text of layout files: written for a draft, changed with every comment left, tidied after a change.

In come tables (`core/layout/table_set`) or a text of TOML; out goes a text. Begin with `layout_writing`, and
`editing`.
"""
