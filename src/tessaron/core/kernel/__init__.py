"""Kernels: the code that turns bytes of whole records into fragments."""
