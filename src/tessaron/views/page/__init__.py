"""The page: one HTML file with a structure, its tables, and what a run did, for browsers without a network.

In comes what a command has found; out goes the text of the file. Begin with `page_model`; a module for
each part puts it together, `page_writing` makes the file, with `page.html`, `page.css` and `page.js`.
"""
