"""The command line.

In reading order:

- ``app``: The command line
- ``build``: Commands that build a site's files: export, init
- ``checks``: Commands that look at an out folder: check, clean
- ``pages``: Commands about pages: what they send, and the markup of their pictures
- ``servers``: Commands that keep running: servers and workers
- ``care``: Commands that take care of a data folder: backups, checks, clearing away
- ``people``: ``gefa people``
- ``console``: What all commands share: where they print, and how they end
"""

import os

# NumPy starts a thread for each core with its algebra library, which nothing here needs: a third
# of the CPU time of a start. Worker processes inherit the setting.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
