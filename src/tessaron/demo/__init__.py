"""The demo world: the harbour office of the made-up port of Brackwater."""
