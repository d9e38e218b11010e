"""A made-up kite festival to try Gefa on: its designs, its pictures, its website.

In reading order:

- ``shapes``: Kites, pennants and hills as SVG snippets, and pictures made from them
- ``poster``: The festival poster, an OpenRaster design with groups, shadows and blend modes
- ``pennants``: A sheet of pennants and badges as SVG, every piece named
- ``photographs``: Pictures of kites
- ``numbered``: Numbered test pictures that show at a glance what a crop does
- ``world``: Draws the sample sources, and loads them into a data folder the first time
"""
