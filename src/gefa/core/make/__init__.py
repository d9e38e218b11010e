"""Run: what has to be made is decided, then made.

In reading order:

- ``job``: What there is to make of one cut
- ``keys``: Names for what is made, by everything that its bytes depend on and nothing else
- ``made``: What is known of things that were made, and where they are put and found again
- ``naming``: Names of cuts and paths of files, given to all cuts of a run at once
- ``prepare``: From plan × source to jobs
- ``facts``: Measuring a cut's pixels
- ``decide``: What is to be made of a cut
- ``foresight``: What a job will come to, as far as that is known without making anything
- ``estimate``: What the files of a cut are expected to weigh, by a few points that were measured
- ``variant_maker``: Making variants: what was decided is encoded, side by side
- ``make_cut``: Making the files of one cut: the one way from a job to files
- ``cut_warnings``: What one wants to be warned of once a cut is made
- ``report``: What a run says of a cut that was made
- ``sampling``: What the files of a cut will weigh, from a quick look at its picture
- ``memory_shelf``: A shelf in memory, for what is made to be measured and then forgotten
- ``folder_shelf``: An ordinary folder as a shelf, with a memory of what its files were made from
- ``pdf``: A PDF with a page for each cut
"""
