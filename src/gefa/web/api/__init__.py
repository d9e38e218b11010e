"""The API for websites and builds.

In reading order:

- ``access``: Who may do what with a slot: by the key that comes with a request
- ``slot_intake``: What a slot takes of a form of files
- ``uploads``: ``/api/v1``: pictures uploaded to a slot, and what became of them
- ``answers``: Uploads as the API tells of them
- ``decisions``: ``/api/v1``: alternative text, focal point and review of an upload
- ``markup``: ``/api/v1``: markup for an upload, in all forms, and what a browser loads of it
- ``preferences``: ``Prefer: wait=N`` (RFC 7240): how long an answer may wait for the files
- ``site_access``: Who may do what with the site's sources, plan and runs: by a key of the site
- ``sources``: ``/api/v1/sources``: what the site is made of
- ``plan``: ``/api/v1/plan``: the site's plan as one TOML file
- ``runs``: ``/api/v1/runs``: runs over the site's sources
- ``pages``: ``/api/v1/pages``: what the pages of the site send to their visitors
- ``resumable``: ``/api/v1``
- ``description``: The API's description as OpenAPI, and what holds for all its routes
"""
