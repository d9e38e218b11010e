"""A picture's own file with what shows the picture and nothing else. Whatever else somebody may
have put into it is left out, also where no decoder looks.

In reading order:

- ``unfit``: The error for files that cannot be stripped
- ``jpeg``: JPEG, written anew from its coefficients
- ``png``: PNG, with the compressed pixels that it has
- ``webp``: WebP, with the bitstream that it has
"""
