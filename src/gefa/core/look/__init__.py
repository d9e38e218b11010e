"""Look and measure: a file beside what it was made from.

In reading order:

- ``proof``: A cut as it should be, and what each quality makes of it
"""
