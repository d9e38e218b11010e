"""Weigh: what pages send to their visitors, and the widths that fit them.

In reading order:

- ``audience``: Who visits: rows of viewport width, pixel density and share of visits
- ``shown``: A picture as a page shows it: its sources in order, each with its files
- ``curve``: What a picture would weigh at any width
- ``sent``: Which file each visitor is sent of a picture
- ``page_weight``: What a visit of a page loads, its distribution, waste and blur
- ``best_ladder``: The widths that cost an audience least
- ``srcset``: The candidates of a ``srcset`` attribute
- ``html_page``: The pictures of an HTML page, as they stand in its markup
- ``css_images``: The pictures that styles name, with ``image-set()``
- ``addresses``: Finds the files behind the addresses in a page
- ``shown_markup``: From markup to pictures with their files, as a browser sees them
- ``faults``: What is wrong with the markup of pictures
- ``site_pages``: The pages of a plan, with the files of a manifest
- ``ladders``: Ladders of cuts that pages show, beside today's
- ``report``: What was weighed, as text, Markdown and JUnit
"""
