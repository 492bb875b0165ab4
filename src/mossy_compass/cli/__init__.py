"""The command line, ``mossy``."""
