"""The version, from the installed package."""

from importlib.metadata import version

__version__ = version("tessaron")
