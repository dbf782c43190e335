"""The data of the demo: the harbour office of Brackwater, the same for the same seed.

`vessel_calls` are many records of one structure, `inspections` one document with every hard structure in
it, `harbour_log` the work of many hands, `harbour_events` records of several kinds, `manifests` XML.
`office` is a web API with all of it, which `office_server` serves on this machine.
"""
