"""Deliver: names, markup and manifests for files that a run made.

In reading order:

- ``names``: File names that are safe in every file system and every URL, and never clash
- ``manifest``: What a run made, as a file that other programs can read
- ``markup``: HTML that lets a browser choose the right variant
- ``named_pictures``: The pictures of a site by name, with their markup
- ``browser``: Which file a browser loads of a ``<picture>``
- ``negotiate``: Chooses a file by ``Accept`` and width, for a request that names none
- ``sprite``: Sprites: the drawings of a recipe in one file
- ``savings``: How many bytes a run saved by format, quality, size and CSS
- ``bundle``: The zip of a run: variants, manifest, markup
- ``layout``: A page that places files as in the design: HTML, CSS, and positions as JSON
- ``compare``: Compares two runs of a source: which files got better, got worse, or stayed the same
"""
