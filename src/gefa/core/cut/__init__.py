"""Choose: what a cut is, and where it lies.

In reading order:

- ``cut``: What is to become files, and who said so
- ``glob``: Patterns over part paths
- ``crop``: Which rectangle of a picture is kept when its ratio is changed
- ``shown_size``: The one size that a cut is made at, in px or on paper
- ``slice_geometry``: Slices: rectangles on the canvas, from guides, an even split, or drawn
- ``suggest``: Suggested slices: the separate objects of a sheet
- ``revisions``: Finding the parts of a design again in its next revision
"""
