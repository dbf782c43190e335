"""Figures of results, by Matplotlib (the extra `figures`): for screens of 1280 x 800 pixels and for print.

In come a survey, tables or a receipt; out goes a `matplotlib.figure.Figure`. Begin with `result_figures`.
"""
