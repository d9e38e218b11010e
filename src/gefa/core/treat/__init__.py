"""Treat: how pixels become a file.

In reading order:

- ``formats``: The formats Gefa writes: all that is known of each, in one row
- ``curves``: How a value, a score or a weight, grows with an encoder's quality number
- ``recipe``: Recipes: how a cut or an upload is treated
- ``recipe_sentence``: A recipe as a sentence
- ``ladder``: Which sizes a recipe makes of a picture
- ``svg_file``: A drawn part as an SVG file
- ``pictures``: A cut's picture at every size that its recipe asks for, decoded once
- ``invisible``: Sets the colour of fully transparent pixels, which nobody sees but encoders store
- ``tone``: A light automatic lift of flat tones
- ``mark``: A mark laid over a corner of a picture
- ``nature``: The kind of a picture (photograph, flat art)
- ``png``: PNG files, with fewer colours where that is wanted, and made smaller
- ``encode``: Pixels to the bytes of a file. Metadata and profiles are left behind
- ``shown``: A file's pixels as browsers show them: scores are of what visitors see
- ``score``: How much like its reference a picture looks: SSIMULACRA2
- ``score_weights``: The 108 weights of SSIMULACRA 2.1
- ``quality_search``: Finding an encoder's quality number: for a look, or for a byte limit
- ``encode_at_quality``: One variant's file, at a given quality or at one that is searched for
- ``avif_boxes``: Whether an AVIF file holds its picture and nothing else
- ``untouched``: Takes a picture's own file as it is, without its metadata
- ``made``: What is known of files that were made, and of the pixels that they were made from
- ``auto_formats``: Chooses the formats of a cut by what its candidates weigh at one width
- ``weight_steps``: Ladders by weight: widths whose files are evenly apart in bytes, not in px
"""
