"""The command line.

In reading order:

- ``app``: The command line
"""
