"""By itself: what a place on a site makes of every upload.

In reading order:

- ``settings``: A place on a site that takes uploads: what it takes, and what becomes of that
- ``upload``: An upload by a slot's settings
"""
