"""Small documents that show all structures of large ones: which records, and masked how."""
