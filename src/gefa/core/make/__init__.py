"""Make: decides which files a cut has, then makes them.

In reading order:

- ``job``: A job: one cut with all files it may have
- ``keys``: Keys of variants
- ``shelf``: A shelf keeps what was made, under the keys of what it was made from
- ``stems``: What the files of a source are called after
- ``naming``: Names all cuts of a run together, and gives their files paths
- ``prepare``: Expands plan × source into jobs
- ``facts``: Measures a cut's pixels: alpha, colours, kind of picture
- ``decide``: Decides which files a cut has, from what is known so far
- ``foresight``: Predicts the files of a job and their weight without making them
- ``estimate``: The expected weight of a cut's files, interpolated between a few measured points
- ``variant_maker``: Encodes the variants that were decided on, several at once
- ``make_cut``: Makes the files of one cut
- ``cut_warnings``: Warnings about a cut that was made
- ``report``: The report of one cut: its files, what was left out and why, warnings
- ``pieces``: Squares of a picture that stand for the whole of it
- ``guessed_quality``: Guesses the quality numbers that a look needs
- ``sampling``: Estimates the weight of a cut's files from small samples of its picture
- ``memory_shelf``: A shelf in memory, for files that are only measured
- ``own_files``: Which files of an out folder are Gefa's own; no other is ever touched
- ``folder_shelf``: A shelf in an ordinary folder, which remembers what each file was made from
- ``pdf``: A PDF with a page for each cut
"""
