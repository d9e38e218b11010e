"""Work: the queue, the foreman, and the processes that work on pixels.

In reading order:

- ``queue``: The queue between the foreman and the workers
- ``tasks``: What a worker process does
- ``upload``: Makes an upload's files by its slot's settings: all crops, and a preview
- ``preview``: What the screens show of a source
- ``perform``: Does a task in an encoding process: plain values in, plain values out
- ``allowance``: How much computing and memory a task may take
- ``pool``: A pool of encoding processes
- ``parent``: Ends a process when the process that started it has ended
- ``worker``: ``gefa worker``: takes tasks from the queue and does them in processes of its own
- ``foreman``: The foreman keeps database and queue in step
- ``settle``: Settles a job: writes its outcome and everything that follows, in one transaction
- ``settle_upload``: Settles an upload
- ``settlers``: For each kind of task, the function that processes its outcome
- ``housekeeper``: The housekeeper clears away, from time to time, what nobody needs any more
- ``saves``: Waits for files to be saved, and until they are saved whole
- ``source_watcher``: The folders that the server watches, and brings in what appears in them
- ``site``: The files of a site: found on the disk, and called by their paths within it
- ``surveys``: What an out folder remembers of its sources: surveys, and the names they want
- ``out_folder``: The folder that an export writes into: what it held before, and what has to go
- ``export_calls``: The calls to the processes of an export, one for each source
- ``planning``: Reads, expands and names what an export makes
- ``batch``: ``gefa export``: many sources into one folder, on all cores, with no server
- ``plan_file``: Keeps a site's ``gefa.toml`` and the plan in the application in step
- ``run_output``: Writes a run into a site's out folder, as an export does
- ``site_folder``: ``serve --site``: keeps the plan file in step, and writes runs to ``out``
- ``dry_run``: ``--dry-run``: what an export would do
- ``page_weights``: ``gefa weigh``: what the pages of a site send
- ``ladder_trial``: Encodes proposed ladders to see what they save, and writes them into the plan
- ``check``: ``gefa check``
- ``starter``: ``gefa init``
- ``outlooks``: Works out what a run of each source would make, ready for *Sources*
- ``verify``: Reads every blob that the database names, and has lost or damaged files made again
- ``publish``: Writes a site's live variants as plain files, for a host that only serves files
"""
