"""The festival's website, which knows Gefa through its HTTP API and by the names of pictures.

In reading order:

- ``app``: The festival's pages. They know Gefa through its HTTP API, and by the names of pictures
- ``gefa``: The festival's way to Gefa: its HTTP API, with a key for each slot
- ``posts``: What the site itself keeps, in one file: shared photographs, stalls, field reports
- ``pictures``: The pictures of the festival's pages that come from its designs
- ``fill``: What the sample website shows from the start
"""
