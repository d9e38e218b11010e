"""The command line.

In reading order:

- ``app``: The command line
- ``care``: Commands that take care of a data folder: backups, checks, clearing away
- ``console``: What all commands share: where they print, and how they end
"""
