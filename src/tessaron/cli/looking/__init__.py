"""The commands that get data and look at it: fetch, survey, find, values and compose, preview, sample.

In come arguments; out go results on standard output, and everything else on standard error. Nothing is made
here that a database or a folder of tables keeps. Begin at `survey_command`.
"""
