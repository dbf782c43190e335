"""The diagram of tables: boxes, and links with crow's feet, laid out so that lines never pass through boxes.

In come tables (`core/layout/table_set`); out go SVG (`svg_drawing`) or lines of text (`text_drawing`). Begin
with `table_links`: what is drawn; `layering` and `placing` say where.
"""
