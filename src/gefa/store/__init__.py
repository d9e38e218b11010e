"""The store: database and blobs, and every change to them.

In reading order:

- ``places``: Where blobs and the queue are
- ``database``: The database: opened, migrated, and read and changed in sessions
- ``store``: One folder that keeps everything: the database and the blobs
- ``folder``: Checks a data folder at start; says in one sentence what is wrong and what to do
- ``models``: The tables. Times are UTC; ids are random but sort by time of making
- ``feed_models``: The tables that the feed is searched and counted by
- ``out_models``: The tables of an out folder: which files were placed there, and the files of its
  sources
- ``person_models``: The tables of people: accounts, sign-ins, and the trail
- ``blobs``: Content-addressed files: a blob's name is the SHA-256 of its bytes
- ``bucket``: An S3-compatible bucket
- ``task_kinds``: The kinds of tasks
- ``contracts``: The contract of each kind of task: its body and its report
- ``task_rows``: Queues tasks: whoever has something done hands a body over; nothing else writes
  ``Task.task``
- ``upsert``: Writes many rows at once, new ones or instead of those with the same key
- ``ledger``: The ledger: facts about each variant and each cut's pixels, by key
- ``out_rows``: What the database of an out folder says of its sources and of the files there
- ``actor``: Who makes the present change: a person, a key, or a program
- ``trail``: The trail: who did what, and when
- ``history``: The history of plans, recipes and settings: their earlier contents, for undo
- ``sources``: Sources and their revisions
- ``watched``: Watched folders: files that appear or are saved there are brought in
- ``recipes``: The recipes that all sources share, each with the contents that it had before
- ``plans``: The site's plan in pieces with a history each
- ``one_change``: Undoes one step, for screens that change what another screen owns
- ``site_plan``: The whole plan of the site: download and import
- ``standing``: Whether the last run of each source is up to date, by what it depends on
- ``desk``: Changes to many sources at once, each one step that can be undone
- ``desk_rows``: The rows of *Sources*: folder, state and weight of each source
- ``run_choice``: Which sources a run takes, by which plans, and what it would do
- ``waiting_runs``: Runs that wait for sources which are still being read
- ``shown_cuts``: The newest files of cuts that pages show, by the cuts' names
- ``made_by_recipe``: What each recipe made in the newest run that used it
- ``run_manifest``: The manifest of a run, from the database
- ``runs``: Runs: start, stop, retry, and describe them
- ``on_demand_jobs``: Jobs that a screen waits for: trials, proofs, curves, scores
- ``removal``: Deletes sources and runs
- ``expiry``: Runs, revisions and tasks that go by themselves
- ``slots``: Slots: settings of the whole site, settings of each slot, and their history
- ``keys``: Keys of slots and of the site
- ``roles``: What people may do: roles, and what each allows
- ``people``: People: who may sign in, with what roles, and the links that let them choose how
- ``passphrases``: Passphrases: which are accepted, how they are stored and compared
- ``sign_ins``: Sign-ins: the browsers that people are signed in with
- ``uploads``: Uploads: accept, describe, review, make again, remove
- ``variants``: The files of uploads: served, waiting for review, or retired
- ``upload_addresses``: From addresses below ``/m/`` to the files of uploads
- ``replacement``: What an upload was before its file was replaced, until the new one is live
- ``notices``: Webhook notices, kept until the address has accepted them
- ``feed``: The feed: uploads newest first, searched and filtered
- ``sweep``: Clears away files that no page, run or upload uses any more
- ``references``: Which blobs the database names, and what each is
- ``backup``: Backups
- ``mending``: Has files made again that were lost or damaged on disk
"""
