"""Proof that nothing was lost: documents made again of tables, and compared with their source."""
