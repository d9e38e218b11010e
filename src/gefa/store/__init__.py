"""What is kept: the database, the blobs, and what follows from each change of them.

In reading order:

- ``places``: Where blobs and the queue are
- ``store``: One folder that keeps everything: the database and the blobs
- ``folder``: Whether a data folder can be worked with
- ``models``: The tables. Times are UTC; ids are random but sort by time of making
- ``person_models``: The tables of people
- ``blobs``: Content-addressed files: a blob's name is the SHA-256 of its bytes
- ``bucket``: An S3-compatible bucket
- ``contracts``: What is asked of workers
- ``ledger``: The ledger of what was made
- ``actor``: On whose behalf things are changed: a person, a key, or a program
- ``trail``: The trail: who did what, and when
- ``history``: What things were before they were changed
- ``sources``: Sources and their revisions
- ``watched``: Folders of the server: what appears in one is brought in
- ``recipes``: The recipes that all sources share, each with the contents that it had before
- ``plans``: The plans of sources, with their histories, and what a run by them would do
- ``one_change``: One change by its step, for screens that change what has a screen of its own
- ``site_plan``: The plan of the site as a whole: given out, and taken in
- ``standing``: Where each source stands: what a run of it depends on
- ``desk``: The desk: what is done to many sources at once, each as one step that can be undone
- ``desk_rows``: What the desk shows of every source
- ``run_choice``: Which sources are run, by which plans, and what a run of them would do
- ``shown_cuts``: The newest files of cuts that pages show, by the cuts' names
- ``made_by_recipe``: What each recipe made in the newest run that used it
- ``run_manifest``: What a run made, gathered up again into a manifest
- ``runs``: Runs: started from a plan, stopped, tried again, and told what they were
- ``on_demand_jobs``: Jobs that somebody looks at while they are done
- ``removal``: Taking sources and runs away for good
- ``slots``: Slots
- ``keys``: Keys: those that open slots, and those of the site
- ``roles``: What people may do: roles, and what each allows
- ``people``: People: who may sign in, with what roles, and the links that let them choose how
- ``passphrases``: Passphrases: which are taken, and how they are kept and compared
- ``sign_ins``: Sign-ins: the browsers that people are signed in with
- ``uploads``: Pictures uploaded to slots: taken in, described, decided on, made again, removed
- ``variants``: The files of uploads
- ``upload_addresses``: From addresses below ``/m/`` to the files of uploads
- ``replacement``: What an upload was before its file was replaced, until the new one is live
- ``notices``: Notices: what addresses of other programs are told, until they took it
- ``feed``: The feed: uploads newest first, searched and filtered
- ``sweep``: Clearing away what nobody needs any more: nothing piles up that no page uses
- ``references``: Which blobs the database names, and what each is
- ``backup``: Backups
- ``mending``: Having files made again that were lost from the disk, or damaged on it
"""
