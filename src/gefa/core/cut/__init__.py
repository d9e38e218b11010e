"""Cuts: what becomes files, and which pixels of it.

In reading order:

- ``cut``: A cut: what becomes files, and whether a tag, a rule or a hand chose it
- ``glob``: Patterns over part paths
- ``crop``: Which rectangle of a picture is kept when its ratio is changed
- ``shown_size``: The one size that a cut is made at, in px or on paper
- ``slice_geometry``: Slices: rectangles on the canvas, from guides, an even split, or drawn
- ``suggest``: Suggested slices: the separate objects of a sheet
- ``revisions``: Pairs the parts of a design with those of its next revision, and lists what changed
"""
