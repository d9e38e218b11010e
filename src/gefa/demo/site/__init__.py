"""The festival's website, which knows Gefa only through its HTTP API.

In reading order:

- ``app``: The festival's pages. They know Gefa only through its HTTP API
- ``gefa``: The festival's way to Gefa: its HTTP API, with a key for each slot
- ``posts``: What the site itself keeps, in one file: shared photographs, stalls, field reports
- ``fill``: What the sample website shows from the start
"""
