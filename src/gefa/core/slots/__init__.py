"""Slots: what a place on a site takes, and makes of every upload.

In reading order:

- ``settings``: The settings of a slot: what it accepts, and which files it makes
- ``upload``: An upload by a slot's settings
"""
