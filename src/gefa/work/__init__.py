"""What works: a queue, the one who plans, and processes that do the work with pixels.

In reading order:

- ``queue``: The queue between the one who plans and the ones who work
- ``kinds``: Every kind of task: what does the work, and how what came of it is written down
- ``tasks``: What a worker process does
- ``upload``: Treating an uploaded picture by a slot's settings
- ``preview``: What the screens show of a source
- ``perform``: Doing a task in a process for pixels, from plain values to plain values
- ``allowance``: How much computing and memory a task may take
- ``pool``: Processes that do the work with pixels
- ``parent``: Processes that end with the process that started them, however that ended
- ``worker``: ``gefa worker``
- ``foreman``: Keeps the database and the queue in step
- ``settle``: Writing down what became of a job
- ``settle_upload``: Writing down what became of an upload
- ``housekeeper``: Clears away, from time to time, what nobody needs any more
- ``saves``: Waiting for files to be saved, and until they are saved whole
- ``source_watcher``: The folders that the server watches, and brings in what appears in them
- ``site``: The files of a site: found on the disk, and called by their paths within it
- ``surveys``: What an out folder remembers of its sources
- ``out_folder``: The folder that an export writes into: what it held before, and what has to go
- ``export_calls``: What the processes of an export do: each call is for one source
- ``planning``: What an export of many sources comes to: read, expanded and named
- ``batch``: ``gefa export``: many sources into one folder, on all cores, with no server
- ``plan_file``: The ``gefa.toml`` of a site's folder and the application's plan, kept in step
- ``run_output``: What a run made, written into the out folder of a site
- ``site_folder``: ``gefa serve --site``: the application on a repository
- ``rehearsal``: What an export would do, without doing it
- ``page_weights``: ``gefa weigh``: what the pages of a site send
- ``ladder_trial``: Ladders that fit better: encoded to see that they do, and written down
- ``check``: ``gefa check``
- ``starter``: ``gefa init``
- ``outlooks``: Works out what a run of each source would make, so that the desk can tell it at once
- ``verify``: Reads every blob that the database names, and makes again what was lost or damaged
- ``publish``: Writing a site's live variants as plain files, for a host that only serves files
"""
