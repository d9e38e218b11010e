"""What websites ask.

In reading order:

- ``access``: Who may do what with a slot: by the key that comes with a request
- ``slot_intake``: What a slot takes of a form of files
- ``uploads``: ``/api/v1``: pictures uploaded to a slot, and what became of them
- ``answers``: Uploads as the API tells of them
- ``decisions``: ``/api/v1``: what is said of an upload, and decided about it
- ``markup``: ``/api/v1``: markup for an upload, in all forms, and what a browser loads of it
- ``resumable``: ``/api/v1``
"""
