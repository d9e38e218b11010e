"""Look: a file beside the pixels it was made from, with its score.

In reading order:

- ``proof``: A proof: the reference of a cut, and the bytes and score of each quality
"""
