"""A made-up kite festival to try Gefa on: its designs, its pictures, its website.

In reading order:

- ``shapes``: Kites, pennants and hills as SVG snippets, and pictures made from them
- ``designs``: Made-up designs as OpenRaster
- ``poster``: The festival poster, an OpenRaster design with groups, shadows and blend modes
- ``pennants``: A sheet of pennants and badges as SVG, every piece named
- ``programme``: The cover and map of the festival's programme, an OpenRaster design
- ``photographs``: Pictures of kites, dunes and sea that pass for photographs
- ``moments``: Eighteen more photographs, smaller than the others
- ``plan``: The plan of the sample site
- ``numbered``: Numbered test pictures that show at a glance what a crop does
- ``world``: Draws the sample sources, and loads them into a data folder the first time
"""
