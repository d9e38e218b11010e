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
- ``outlooks``: Works out what a run of each source would make, ready for *Sources*
- ``verify``: Reads every blob that the database names, and has lost or damaged files made again
- ``publish``: Writes a site's live variants as plain files, for a host that only serves files
"""
