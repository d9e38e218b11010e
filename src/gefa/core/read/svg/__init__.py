"""Drawings: SVG, drawn by librsvg as browsers would.

In reading order:

- ``elements``: What single SVG elements say: names, lengths, properties, references
- ``transforms``: Transform lists of SVG elements (CSS Transforms 1, section 8), read in one pass
- ``css_values``: CSS that librsvg does not know
- ``css_boxes``: Rectangles that CSS draws as well as a file would
- ``fonts``: Which typefaces this machine has, and which ones a drawing asks for in vain
- ``normalise``: Changes to a drawing before it is drawn, so that librsvg draws it as browsers do
- ``costs``: Refuses drawings that would cost too much to draw, before anything is drawn
- ``isolate``: One part of a drawing alone
- ``cascade``: Style sheets worked out
- ``allowed``: What an SVG file may hold that stands alone
- ``standalone``: One part of a drawing as an SVG file that stands alone
- ``reach``: How far outside a rectangle something may lie and still change what is drawn in it
- ``filter_work``: How much work the filters of a drawing are, before anything is drawn
- ``frame``: Any region of a drawing at any scale, through librsvg
- ``undrawn``: What of a drawing is not drawn as a browser draws it
- ``drawing``: SVG: a part is a group, image, text, use or shape that has a name
"""
