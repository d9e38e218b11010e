"""Deliver: names, markup and manifests of files that were made.

In reading order:

- ``names``: File names that are safe in every file system and every URL, and never clash
- ``manifest``: What a run made, as a file that other programs can read
- ``markup``: HTML that lets a browser choose the right variant
- ``named_pictures``: The pictures of a site by name, and their markup
- ``browser``: Which file a browser loads of a ``<picture>``
- ``negotiate``: Which of the files that exist answers a request that names none
- ``sprite``: Sprites: the drawings of a recipe in one file
- ``savings``: What a run saved, by what
- ``bundle``: The zip of a run: variants, manifest, markup
- ``layout``: The files laid out again as they lie in the design
- ``compare``: Two runs of a source beside each other
"""
