"""Where bytes come from."""
