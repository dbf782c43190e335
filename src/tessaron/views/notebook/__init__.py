"""Results as notebooks and terminals show them: HTML that is right by day and night, and text.

In come results (a survey, a layout, tables, a receipt, a verification, a comparison, a history); out go HTML
and text. Begin with `result_forms`, which says what shows which.
"""
