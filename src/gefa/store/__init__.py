"""What is kept: the database, the blobs, and what follows from each change of them.

In reading order:

- ``places``: Where blobs and the queue are
- ``store``: One folder that keeps everything: the database and the blobs
- ``folder``: Whether a data folder can be worked with
- ``models``: The tables. Times are UTC; ids are random but sort by time of making
- ``blobs``: Content-addressed files: a blob's name is the SHA-256 of its bytes
- ``bucket``: An S3-compatible bucket
- ``contracts``: What is asked of workers
- ``ledger``: The ledger of what was made
- ``history``: What things were before they were changed
- ``sources``: Sources, their revisions, and what hands decided about their parts
- ``recipes``: The recipes that all sources share, each with the contents that it had before
- ``runs``: Runs: started from a plan, and gathered up again into a manifest
- ``on_demand_jobs``: Jobs that somebody looks at while they are done
- ``removal``: Taking sources and runs away for good
- ``slots``: Slots
- ``keys``: The keys that open slots
- ``uploads``: Pictures uploaded to slots: taken in, described, decided on, made again, removed
- ``variants``: The files of uploads
- ``replacement``: What an upload was before its file was replaced, until the new one is live
- ``notices``: Notices: what addresses of other programs are told, until they took it
- ``feed``: The feed: uploads newest first, searched and filtered
- ``sweep``: Clearing away what nobody needs any more: nothing piles up that no page uses
- ``references``: Which blobs the database names, and what each is
- ``backup``: Backups
- ``mending``: Having files made again that were lost from the disk, or damaged on it
"""
